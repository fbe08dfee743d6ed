"""What if: one question about packs that are not stored."""

from iterum.web.what_if.routes import blueprint

__all__ = ["blueprint"]
