"""Measure: one pack after another, three digits a cell, the verdict at once."""

from iterum.web.measure.routes import blueprint

__all__ = ["blueprint"]
