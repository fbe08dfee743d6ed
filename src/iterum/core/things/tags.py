"""Tags that count up: P-07 comes after P-06."""

import re
from collections.abc import Container

_ENDS = re.compile(r"^(.*?)(\d+)$")


def after(tag: str) -> str:
    """The tag that follows.

    tag : as written on the pack; one without a number at its end becomes the first of its kind.
    """
    ending = _ENDS.match(tag)
    if ending is None:
        return f"{tag}-2"
    return f"{ending[1]}{int(ending[2]) + 1:0{len(ending[2])}d}"


def next_tag(tag: str, used: Container[str]) -> str:
    """The first tag after one that nobody uses.

    tag : as written on the pack. used : tags in use or retired.
    """
    following = after(tag)
    while following in used:
        following = after(following)
    return following


def tags_from(tag: str, count: int) -> list[str]:
    """So many tags counted up.

    tag : the first. count : of packs, 1 or more.
    """
    tags = [tag]
    while len(tags) < count:
        tags.append(after(tags[-1]))
    return tags
