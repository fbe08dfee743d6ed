"""Templates are written in plain English; this extension has them speak the reader's language.

Each run of text between the tags of a layout is one sentence of the catalogue, with what is filled in as named values:

    <p>{{ left_wh|plain }} Wh left in <b>{{ source.name }}</b>.</p>      is the sentence
    {left_wh} Wh left in <b>{name}</b>.

Tags inside a sentence stand without their attributes, numbered from the second of a name. A statement such as
`{% if %}` ends a sentence: no sentence may go on after one. Words inside an expression are written `say("...")`.
"""

import re
from collections.abc import Iterator, Sequence
from html import unescape
from typing import Any, NamedTuple

from jinja2 import Environment, pass_context
from jinja2.ext import Extension
from jinja2.runtime import Context
from markupsafe import Markup, escape

from iterum.core.say import Words, retold, say, say_many, translated, written

INSIDE = frozenset({"b", "strong", "em", "i", "a", "code", "span"})
"""Tags that may stand inside a sentence."""
SAYING = frozenset({"between", "span", "chance_words", "degrees_apart", "degree_unit", "say", "say_many", "clock_s"})
"""Functions whose result is words; a call of another one draws something, and ends a sentence."""
SPOKEN_ATTRIBUTES = ("aria-label", "title", "placeholder", "alt", "label", "data-keep")
UNITS = re.compile(
    r"\b(V|A|W|Wh|kWh|mAh|Ah|min|h|s|C|S|P|mΩ|MB|kB|SoC|F|R|U|T|M|N|K|B|Space|Esc|Enter|Tab|Ctrl|Iterum|OK|USB|CSV|iCalendar|JSON)\b"
)

_TOKEN = re.compile(
    r"(?P<note>\{#.*?#\})|(?P<statement>\{%.*?%\})|(?P<value>\{\{.*?\}\})|(?P<note2><!--.*?-->|<!DOCTYPE[^>]*>)"
    r"|(?P<raw><(?P<raw_name>script|style)\b.*?</(?P=raw_name)>)"
    r"|(?P<tag></?[a-zA-Z](?:\{\{.*?\}\}|\{%.*?%\}|\"(?:\{\{.*?\}\}|\{%.*?%\}|[^\"])*\"|'(?:\{\{.*?\}\}|\{%.*?%\}|[^'])*'|[^>\"'])*>)"
    r"|(?P<text>(?:(?!\{[{%#])[^<])+|<)",
    re.S,
)
_ATTRIBUTE = re.compile(rf'\s({"|".join(SPOKEN_ATTRIBUTES)})="((?:\{{\{{.*?\}}\}}|[^"{{])*)"', re.S)
_TAG_NAME = re.compile(r"</?([a-zA-Z][\w-]*)")
_VALUE = re.compile(r"\{\{-?\s*(.*?)\s*-?\}\}", re.S)
_IN_TEXT = re.compile(r"\{(\w+)\}|<(b|strong|em|i|a|code|span)(\d*)>")

_FILLED_IN = re.compile(r"\{\w+\}|</?[a-z]+\d*>")
_NUMBERED_END = re.compile(r"</([a-z]+)\d+>")


class _Piece(NamedTuple):
    kind: str
    text: str

    @property
    def tag(self) -> str:
        """The name of its tag, if it is one that may stand inside a sentence."""
        hit = _TAG_NAME.match(self.text) if self.kind == "tag" else None
        return hit[1].lower() if hit and hit[1].lower() in INSIDE else ""

    @property
    def closes(self) -> bool:
        """Whether it is a closing tag."""
        return self.text.startswith("</")

    @property
    def ends_sentence(self) -> bool:
        """Whether no sentence goes on across it."""
        if self.kind == "text":
            return False
        if self.kind == "value":
            called = re.match(r"\{\{-?\s*([\w.]+)\(.*\)(?:\|round\(?\d?\)?)?\s*-?\}\}$", self.text, re.S)
            return called is not None and called[1] not in SAYING
        return not self.tag


def _pieces(source: str) -> Iterator[_Piece]:
    for hit in _TOKEN.finditer(source):
        kind = next(name for name in ("note", "statement", "value", "note2", "raw", "tag", "text") if hit[name])
        yield _Piece(kind.rstrip("2"), hit[0])


def _letters(text: str) -> bool:
    """Whether there are words to say, and not only units."""
    if '="' in text or text.startswith("</"):  # attributes in a macro of their own, a tag without its partner
        return False
    bare = UNITS.sub("", unescape(text).replace("\u00a0", " "))
    return bool(re.search(r"[A-Za-z]{2,}", bare))


class Spoken(Extension):
    """Wraps each sentence of a template so that it is looked up when the page is made."""

    def __init__(self, environment: Environment) -> None:
        super().__init__(environment)
        environment.globals.update(say=say, say_many=say_many, said_html=said_html)
        environment.finalize = shown

    def preprocess(self, source: str, name: str | None, filename: str | None = None) -> str:  # noqa: ARG002 (Jinja's)
        """The template with each sentence as a call."""
        out: list[str] = []
        run: list[_Piece] = []
        for piece in _pieces(source):
            if piece.ends_sentence:
                out.append(_spoken_run(run))
                run = []
                out.append(_spoken_tag(piece.text) if piece.kind == "tag" else piece.text)
            else:
                run.append(piece)
        return "".join([*out, _spoken_run(run)])


@pass_context
def shown(_context: Context, value: Any) -> Any:
    """What stands in a page for a value: words that were kept in English are said in the reader's language."""
    return retold(value) if isinstance(value, Words) else value


def said_html(text: str, values: dict[str, Any], tags: Sequence[str] = ()) -> Markup:
    """A sentence of a page, with its values escaped and its tags whole.

    text : of the catalogue. tags : with their attributes, in the order of the English sentence.
    """
    whole = dict(zip(_tag_keys(text), tags, strict=True))

    def fill(hit: re.Match[str]) -> str:
        if hit[1]:
            value = values[hit[1]]
            return str(escape(value if isinstance(value, Markup) else written(value)))
        return whole.get(hit[2] + hit[3], hit[0])

    said = _IN_TEXT.sub(fill, translated(text))
    return Markup(_NUMBERED_END.sub(r"</\1>", said))  # noqa: S704 (values are escaped, the rest is ours)


def _tag_keys(text: str) -> list[str]:
    return [hit[2] + hit[3] for hit in _IN_TEXT.finditer(text) if hit[2]]


def _spoken_tag(tag: str) -> str:
    """A tag whose words to people are looked up."""

    def spoken(hit: re.Match[str]) -> str:
        text, values, _ = _sentence(list(_pieces(hit[2])))
        if not _letters(re.sub(r"\{\w+\}", "", text)):
            return hit[0]
        given = "".join(f", {name}={value}" for name, value in values.items())
        return f' {hit[1]}="{{{{ say({_quoted(text)}{given}) }}}}"' + "\n" * hit[0].count("\n")

    return _ATTRIBUTE.sub(spoken, tag)


def _spoken_run(run: list[_Piece]) -> str:
    """Text with the tags inside it, as sentences."""
    return "".join(map(_spoken, _split(run)))


def _split(run: list[_Piece]) -> Iterator[list[_Piece]]:
    """Sentences and what lies between them: a tag without its partner ends one, and so does one that holds all."""
    partner: dict[int, int] = {}
    opened: list[int] = []
    for at, piece in enumerate(run):
        if piece.tag and not piece.closes:
            opened.append(at)
        elif piece.tag and opened and run[opened[-1]].tag == piece.tag:
            partner[opened.pop()] = at
    whole = set(partner) | set(partner.values())
    start = 0
    for at, piece in enumerate(run):
        if piece.tag and at not in whole:
            yield from _peeled(run[start:at])
            yield [piece]
            start = at + 1
    yield from _peeled(run[start:])


def _peeled(run: list[_Piece]) -> Iterator[list[_Piece]]:
    """A sentence as it is where it has words outside its tags; else what its tags hold, each by itself."""
    depth, outside = 0, []
    for piece in run:
        if piece.tag:
            depth += -1 if piece.closes else 1
        elif depth == 0 and piece.kind == "text":
            outside.append(piece.text)
    if not run or _letters(" ".join(outside)) or not any(piece.tag for piece in run):
        yield run
        return
    inner: list[_Piece] = []
    depth = 0
    for piece in run:
        if piece.tag and piece.closes:
            depth -= 1
        if piece.tag and depth == 0:
            yield from (_peeled(inner) if inner and piece.closes else [inner])
            yield [piece]
            inner = []
        else:
            inner.append(piece)
        if piece.tag and not piece.closes:
            depth += 1
    yield inner


def _spoken(run: list[_Piece]) -> str:
    whole = "".join(_spoken_tag(piece.text) if piece.tag else piece.text for piece in run)
    text, values, tags = _sentence(run)
    if not _letters(_FILLED_IN.sub("", text)):
        return whole
    head = whole[: len(whole) - len(whole.lstrip())]
    tail = whole[len(whole.rstrip()) :]
    sets, names = [], []
    for at, tag in enumerate(tags):
        sets.append(f"{{% set tag_{at} %}}{_spoken_tag(tag)}{{% endset %}}")
        names.append(f"tag_{at}, ")
    given = ", ".join(f'"{name}": {value}' for name, value in values.items())
    lines = "\n" * (whole.strip().count("\n") - "".join(sets).count("\n") - given.count("\n"))
    call = f"{{{{ said_html({_quoted(text)}, {{{given}}}, ({''.join(names)})){lines} }}}}"
    return head + "".join(sets) + call + tail


def _sentence(run: list[_Piece]) -> tuple[str, dict[str, str], list[str]]:
    """The English of a run, its values by name, and its tags in order."""
    parts: list[str] = []
    values: dict[str, str] = {}
    tags: list[str] = []
    counts: dict[str, int] = {}
    opened: list[str] = []
    for piece in run:
        if piece.kind == "value":
            hit = _VALUE.fullmatch(piece.text)
            parts.append(f"{{{_named(hit[1] if hit else '', values)}}}")
        elif piece.tag and piece.closes:
            parts.append(f"</{opened.pop() if opened else piece.tag}>")
        elif piece.tag:
            counts[piece.tag] = counts.get(piece.tag, 0) + 1
            key = piece.tag + (str(counts[piece.tag]) if counts[piece.tag] > 1 else "")
            opened.append(key)
            parts.append(f"<{key}>")
            tags.append(piece.text)
        else:
            parts.append(piece.text)
    return " ".join("".join(parts).split()), values, tags


def _named(expression: str, values: dict[str, str]) -> str:
    """A name for a value, by what stands for it; the same value has one name."""
    bare = expression.partition("|")[0].strip()
    found = re.findall(r"[a-z_]\w*", re.sub(r"\(.*|\[.*|\".*|'.*", "", bare)) or ["value"]
    name = found[-1] if found[-1] not in ("say", "say_many", "else", "if", "or") else "value"
    tried, more = name, 1
    while values.get(tried, expression) != expression:
        more += 1
        tried = f"{name}{more}"
    values[tried] = expression
    return tried


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'
