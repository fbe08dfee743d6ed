"""Use: a pack and a load."""

from iterum.web.use.routes import blueprint

__all__ = ["blueprint"]
