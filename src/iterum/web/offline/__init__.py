"""Without the link: what a page keeps on the device, and how it is taken once it is back."""

from iterum.web.offline.routes import blueprint, late

__all__ = ["blueprint", "late"]
