"""The table that several pilots share: who is there, by which rule, and what each gets."""

from iterum.web.table.routes import blueprint

__all__ = ["blueprint"]
