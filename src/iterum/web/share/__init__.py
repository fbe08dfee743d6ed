"""On my phone: the bench shared with devices on the same network."""

from iterum.web.share.routes import blueprint

__all__ = ["blueprint"]
