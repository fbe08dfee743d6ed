"""Dates that a season can hold."""

from datetime import datetime

FROM_YEAR, TO_YEAR = 2000, 2100


def is_of_our_time(moment: datetime) -> bool:
    """Whether a moment lies where packs, heats and logs can: others are slips, and break whatever counts with them."""
    return FROM_YEAR <= moment.year < TO_YEAR
