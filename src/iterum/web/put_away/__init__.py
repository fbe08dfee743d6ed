"""Put away: what lies above or below storage volts."""

from iterum.web.put_away.routes import blueprint

__all__ = ["blueprint"]
