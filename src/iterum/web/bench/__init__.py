"""The bench: what to do now, a row for each channel, the day, and the acts of a day."""

from iterum.web.bench.routes import blueprint

__all__ = ["blueprint"]
