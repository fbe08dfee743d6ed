"""Log: every charge, reading, act, skip and incident."""

from iterum.web.log.routes import blueprint

__all__ = ["blueprint"]
