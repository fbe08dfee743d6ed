"""Something's wrong, and the list of keys."""

from iterum.web.wrong.routes import blueprint

__all__ = ["blueprint"]
