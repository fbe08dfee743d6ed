"""Styles and scripts, under an address that names their version: asked for once, and never again until they change."""

import json
import re
from functools import cache
from hashlib import sha256
from pathlib import Path

from flask import Flask, Response

from iterum.web.keys import acts

_IMPORT = re.compile(r'^import \{[^}]*\} from "([^"]+)";\n', re.MULTILINE)
_DECLARED = re.compile(r"^(?:async )?(?:function|const|let|class) (\w+)", re.MULTILINE)
FOLDER = Path(__file__).parent / "static"
STYLES = (
    "tokens",
    "frame",
    "sheets",
    "measure",
    "pictures",
    "match",
    "dial",
    "flows",
    "plan",
    "next",
    "kit",
    "box",
    "away",
    "run",
    "bench",
    "rehearse",
    "table",
    "stores",
    "phone",
)
"""Style sheets, one a concern, in the order in which they build on each other: sent as one."""
KEPT_S = 31_536_000
"""How long a browser keeps what stands under the address of a version."""


@cache
def version() -> str:
    """Another one as soon as any file, or the list of keys, is another one."""
    whole = sha256(_keys().encode())
    for path in _files():
        whole.update(path.name.encode() + path.read_bytes())
    return whole.hexdigest()[:12]


def asset(name: str) -> str:
    """The address of a file; `css/iterum.css` is all style sheets in one, `iterum.js` all modules in one."""
    return f"/static/{version()}/{name}"


@cache
def kept_files() -> tuple[str, ...]:
    """What a device keeps, to show pages without the link."""
    others = [
        path.relative_to(FOLDER)
        for path in _files()
        if path.parent.name not in ("js", "css") and path.name != "worker.js"
    ]
    return (asset("iterum.js"), asset("css/iterum.css"), *(asset(path.as_posix()) for path in others))


def add_assets(app: Flask) -> None:
    """The two that are put together here; the rest are files as they are."""

    @app.get(asset("css/iterum.css"))
    def style_sheet() -> Response:
        """All style sheets as one."""
        return Response(_style_sheet(), mimetype="text/css")

    @app.get(asset("iterum.js"))
    def script() -> Response:
        """All modules as one."""
        return Response(_script(), mimetype="text/javascript")


def _files() -> list[Path]:
    return sorted(path for path in FOLDER.rglob("*") if path.suffix in (".css", ".js", ".svg", ".woff2"))


@cache
def _style_sheet() -> str:
    return "".join((FOLDER / "css" / f"{name}.css").read_text("utf-8") for name in STYLES)


@cache
def _script() -> str:
    """Every module after those that it builds on, what they take from each other being there by its name."""
    told: dict[str, str] = {"../keys.js": _keys()}

    def add(name: str) -> None:
        if name in told:
            return
        text = (FOLDER / "js" / name).read_text("utf-8")
        for needed in _IMPORT.findall(text):
            add(needed.removeprefix("./"))
        told[name] = _IMPORT.sub("", text)

    add("main.js")
    whole = re.sub(r"^export ", "", "".join(told.values()), flags=re.MULTILINE)
    names = _DECLARED.findall(whole)
    assert len(names) == len(set(names)), "two modules of the script give one name to two things"
    return whole


def _keys() -> str:
    return f"export const KEYS = {json.dumps(acts())};\n"
