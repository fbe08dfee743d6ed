"""Kit: boards, chargers, supplies and sources."""

from iterum.web.kit.routes import blueprint

__all__ = ["blueprint"]
