"""Iterum plans charging sessions for many packs and says why."""

__version__ = "0.1.0"
