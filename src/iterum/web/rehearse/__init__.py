"""Rehearse: the same application on a bench of its own, and a course of short lessons."""

from iterum.web.rehearse.routes import blueprint

__all__ = ["blueprint"]
