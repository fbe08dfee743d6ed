"""A code for a label, as SVG without styles of its own."""

import io

import segno
from markupsafe import Markup


def code_svg(text: str) -> Markup:
    """The text as a QR code (ISO/IEC 18004), error correction M: a scratch on a label is no loss."""
    stream = io.BytesIO()
    code = segno.make(text, error="m", micro=False)
    code.save(stream, kind="svg", xmldecl=False, svgns=False, omitsize=True, svgclass="code", lineclass="code-line")
    return Markup(stream.getvalue().decode())  # noqa: S704 (made by the library from numbers alone)
