"""Packs: see, add, change, retire."""

from iterum.web.packs.routes import blueprint

__all__ = ["blueprint"]
