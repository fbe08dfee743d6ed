"""Charge: the dial card of a group."""

from iterum.web.charge.routes import blueprint

__all__ = ["blueprint"]
