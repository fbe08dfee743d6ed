"""Plan: batches over the day."""

from iterum.web.plan.routes import blueprint

__all__ = ["blueprint"]
