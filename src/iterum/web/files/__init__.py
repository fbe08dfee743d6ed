"""Files: import and export."""

from iterum.web.files.routes import blueprint

__all__ = ["blueprint"]
