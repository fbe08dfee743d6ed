"""Tags that count up: P-07 comes after P-06."""

import re
from collections.abc import Container

_ENDS = re.compile(r"^(.*?)(\d+)$")


def after(tag: str) -> str:
    """The tag that follows.

    tag : as written on the pack; one without a number at its end becomes the first of its kind.
    """
    found = _ENDS.match(tag)
    if found is None:
        return f"{tag}-2"
    return f"{found[1]}{int(found[2]) + 1:0{len(found[2])}d}"


def next_tag(tag: str, used: Container[str]) -> str:
    """The first tag after one that nobody uses.

    tag : as written on the pack. used : tags in use or retired.
    """
    found = after(tag)
    while found in used:
        found = after(found)
    return found


def tags_from(tag: str, count: int) -> list[str]:
    """So many tags counted up.

    tag : the first. count : of packs, 1 or more.
    """
    found = [tag]
    while len(found) < count:
        found.append(after(found[-1]))
    return found
