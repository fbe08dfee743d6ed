"""What a field of the job is called, in which unit, within which bounds: said once, beside the field itself.

Bounds are `annotated_types`; `Says` holds the words. The session file, its schema, forms and their faults are made
from both.
"""

from dataclasses import dataclass
from typing import Annotated

from annotated_types import Len


@dataclass(frozen=True)
class Says:
    """Words about a field. pattern : a regular expression that a text keeps."""

    title: str
    unit: str = ""
    help: str = ""
    pattern: str | None = None


Tag = Annotated[
    str,
    Len(1, 40),
    Says("Tag", help="as written on it, such as P-07", pattern=r"^[^\s\x00-\x1f]([^\x00-\x1f]*[^\s\x00-\x1f])?$"),
]
Named = Annotated[str | None, Len(0, 40)]
"""The tag of something else, or nothing."""
Name = Annotated[str | None, Len(0, 80), Says("Name")]
Note = Annotated[str | None, Len(0, 2000), Says("Note")]
