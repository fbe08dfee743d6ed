"""Pages: Flask, Jinja and htmx. One folder a room, named as the pilot names it."""

from iterum.web.app import create_app

__all__ = ["create_app"]
