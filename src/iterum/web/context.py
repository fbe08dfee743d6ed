"""What every route needs: the desk and the present moment."""

from datetime import datetime
from typing import cast

from flask import current_app

from iterum.services.desk import Desk


def desk() -> Desk:
    """The stored session of this application."""
    return cast(Desk, current_app.extensions["iterum"]["desk"])


def now() -> datetime:
    """The present moment, with its zone."""
    return cast(datetime, current_app.extensions["iterum"]["clock"]())
