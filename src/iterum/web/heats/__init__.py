"""Heats: when packs fly, and what else is wanted full by when."""

from iterum.web.heats.routes import blueprint

__all__ = ["blueprint"]
