"""Run: one batch from inspection to log."""

from iterum.web.run.routes import blueprint

__all__ = ["blueprint"]
