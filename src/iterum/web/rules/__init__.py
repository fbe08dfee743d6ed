"""House rules: every school, and what choosing it does to today's groups."""

from iterum.web.rules.routes import blueprint

__all__ = ["blueprint"]
