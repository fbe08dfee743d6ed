"""Match: which packs share a board, on the voltage ladder."""

from iterum.web.match.routes import blueprint

__all__ = ["blueprint"]
