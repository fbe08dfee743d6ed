"""The first five minutes: packs, charger and source in the words of their labels."""

from iterum.web.begin.routes import blueprint

__all__ = ["blueprint"]
