"""Every sentence that people see, found where it stands: `make words` brings the catalogues up to it."""

import ast
import json
import re
import sys
from functools import cache
from pathlib import Path

from babel.messages.catalog import Catalog
from babel.messages.pofile import read_po, write_po
from jinja2 import nodes

from iterum.core.electrical.resistance import Basis
from iterum.core.permit.facts import Level
from iterum.core.permit.permit import Way
from iterum.core.season.run import Act, State
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.choice import Kind
from iterum.core.things.pilots import Shape
from iterum.web.spoken import Spoken
from iterum.wording import SENTENCES
from iterum.wording.choosing import Many, texts

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src/iterum"
LANGUAGES = SOURCE / "languages"
KEPT = "kept"
"""Marks what is kept or sent in English, and said again by its readers."""
CALLS = ("say", "kept", "Words", "translated")
"""Functions whose first argument is a sentence."""
IN_THE_LOG = ("watch_", "own_rate")
"""Reasons that are kept in the log of a batch, in English."""
FIELD_WORDS = ("title", "help")
OTHERS = ("you", "the charger", "charger", "checker", "simulated bench", "cool", "warm", "hot", "inspect", "file", "Anywhere", "Something's wrong", "Run")
"""Words that are kept or sent as they are, and said with `retold`."""


def _add(found, text, more, place):
    text = text if more is None else (text, more)
    found.setdefault(text, []).append(place)


def _of_templates(found):
    from jinja2 import Environment

    env = Environment(extensions=[Spoken], trim_blocks=True, lstrip_blocks=True)
    env.filters = {name: str for path in SOURCE.rglob("*.html") for name in re.findall(r"\|\s*(\w+)", path.read_text())}
    env.filters |= Environment().filters
    for path in sorted(SOURCE.rglob("*.html")):
        place = str(path.relative_to(SOURCE)).replace("templates/", "")
        for call in env.parse(path.read_text("utf-8")).find_all(nodes.Call):
            if isinstance(call.node, nodes.Name) and call.node.name in ("say", "said_html", "say_many"):
                said = [arg.value for arg in call.args if isinstance(arg, nodes.Const)]
                if call.node.name == "say_many":
                    _add(found, said[0], said[1], place)
                elif said and isinstance(call.args[0], nodes.Const):
                    _add(found, said[0], None, place)


def _text(node):
    return node.value if isinstance(node, ast.Constant) and isinstance(node.value, str) else None


def said_all(call):
    """Each constant of a call that is words, not a key."""
    told = [_text(arg) for arg in call.args[1:]]
    return [text for text in told if text and " " in text]


def _of_lessons(found):
    for path in sorted((SOURCE / "exchange/course").glob("*.json")):
        lesson = json.loads(path.read_text("utf-8"))
        for name in ("title", "situation", "question", "instead"):
            if lesson.get(name):
                _add(found, lesson[name], None, path.name)
        for choice in lesson["choices"]:
            for name in ("words", "then"):
                if choice.get(name):
                    _add(found, choice[name], None, path.name)


def _of_code(found):
    for path in sorted(SOURCE.rglob("*.py")):
        place = str(path.relative_to(SOURCE))
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if not isinstance(node, ast.Call):
                continue
            name = getattr(node.func, "id", getattr(node.func, "attr", ""))
            is_kept = name == "kept" or place.startswith(("devices", "guardian"))
            for text, more in _in_call(name, node, place.startswith("cli")):
                _add(found, text, more, f"{place} {KEPT}" if is_kept else place)


def _in_call(name, node, of_command):
    """What a call says: a sentence, or one with its form for several."""
    said = [_text(arg) for arg in node.args[:2]]
    if name in CALLS:
        told = said[:1]
    elif name in ("say_many", "form_for"):
        return [tuple(said)] if len(said) == 2 and all(said) else []
    elif name == "table" and of_command and node.args and isinstance(node.args[0], ast.Tuple):
        told = [_text(item) for item in node.args[0].elts]
    elif name in ("School", "Rule"):
        told = said_all(node)
    elif name == "Says":
        given = {word.arg: _text(word.value) for word in node.keywords}
        told = [*said[:1], *(given.get(word) for word in FIELD_WORDS)]
    else:
        told = []
    return [(text, None) for text in told if text]


def _of_scripts(found):
    for path in sorted((SOURCE / "web/static").glob("**/*.js")):
        if "vendor" not in path.parts:
            for hit in re.finditer(r'\bwords\(\s*"((?:[^"\\]|\\.)*)"', path.read_text("utf-8")):
                _add(found, json.loads(f'"{hit[1]}"'), None, path.name)


@cache
def messages():
    """By text, or by its two forms: where it stands."""
    found = {}
    for code, template in SENTENCES.items():
        place = f"wording {code} {KEPT}" if code.startswith(IN_THE_LOG) else f"wording {code}"
        for text in texts(template):
            if isinstance(text, Many):
                _add(found, text.one, text.more, place)
            else:
                _add(found, text, None, place)
    _of_templates(found)
    _of_code(found)
    _of_scripts(found)
    _of_lessons(found)
    for kind in (State, Act, Kind, Level, Way, Shape, Basis):
        for item in kind:
            _add(found, item.value, None, kind.__name__)
    for chemistry in CHEMISTRIES.values():
        if " " in chemistry.known_as:
            _add(found, f"{chemistry.label}, {chemistry.known_as}", None, "core/things/chemistry.py")
    for text in OTHERS:
        _add(found, text, None, "names")
    single = {text[0] for text in found if isinstance(text, tuple)}
    return {text: places for text, places in found.items() if text not in single}


def read(code):
    path = LANGUAGES / f"{code}.po"
    if not path.exists():
        return Catalog(locale=code)
    with path.open("rb") as stream:
        return read_po(stream, locale=code)


def key_of(text):
    return text if isinstance(text, str) else text[0]


def brought_up(code, given=None):
    """The catalogue of a language with exactly today's sentences; `given` : new translations by the English."""
    old = {key_of(message.id): message.string for message in read(code) if message.id}
    given = given or {}
    new = Catalog(locale=code, header_comment=f"# Iterum in {code}.")
    for text, places in sorted(messages().items(), key=lambda item: (item[1][0], key_of(item[0]))):
        string = given.get(key_of(text), old.get(key_of(text), ""))
        if isinstance(text, tuple):
            forms = (string, string) if isinstance(string, str) else tuple(string)
            string = (*forms, *[forms[-1]] * new.num_plurals)[: new.num_plurals]
        flags = [KEPT] if any(place.endswith(f" {KEPT}") for place in places) else []
        new.add(text, string, locations=[(places[0].split()[0], None)], flags=flags)
    return new


def write(catalogue, path):
    with path.open("wb") as stream:
        write_po(stream, catalogue, width=10_000, omit_header=True, include_lineno=False)


def main():
    lacking = 0
    for path in sorted(LANGUAGES.glob("*.po")):
        catalogue = brought_up(path.stem)
        write(catalogue, path)
        open_ones = [key_of(item.id) for item in catalogue if item.id and not (item.string if isinstance(item.string, str) else all(item.string))]
        lacking += len(open_ones)
        print(f"{path.name}: {len(open_ones)} of {len(messages())} sentences have no translation")
        for text in open_ones:
            print("  ", text)
    words = sum(len(key_of(text).split()) for text in messages())
    print(f"{len(messages())} sentences, {words} words")
    return lacking


if __name__ == "__main__":
    sys.exit(bool(main()))
