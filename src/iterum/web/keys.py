"""Every single key: what it does on the page, and what the list of keys says of it. One list for both."""

from collections.abc import Iterable
from dataclasses import asdict, dataclass

from iterum.core.say import Words


@dataclass(frozen=True)
class Key:
    """One key, or two that belong together.

    shown : as the list writes it. keys : as a browser names them, letters small. does : an act of static/js/keys.js
    for each of the keys, as "name argument". inside, outside : where the act is meant, by selectors; empty: anywhere.
    """

    shown: str
    what: str
    keys: tuple[str, ...]
    does: tuple[str, ...]
    inside: str = ""
    outside: str = ""
    shift: bool = False


DIGITS = "[data-digits]"
KEYS: dict[str, tuple[Key, ...]] = {
    "Anywhere": (
        Key(
            "Enter",
            Words("the page's main button; on Plan and Charge what Now says"),
            ("Enter",),
            ("press primary next",),
            outside="a, button, summary, form",
        ),
        Key("!", Words("Something's wrong"), ("!",), ("press wrong",)),
        Key(", .", Words("step back, step on"), (",", "."), ("step -1", "step 1"), outside=DIGITS),
        Key("J", Words("go anywhere: a few letters of a pack, a page, a batch or an act"), ("j",), ("palette",)),
        Key("U", Words("undo what was just done"), ("u",), ("press undo",)),
        Key("N", Words("night or day view"), ("n",), ("press night",)),
        Key("?", Words("these keys"), ("?",), ("press keys-link",)),
        Key(
            "← →",
            Words("the page before, the page after"),
            ("ArrowLeft", "ArrowRight"),
            ("press page-left", "press page-right"),
        ),
    ),
    "Measure": (
        Key("0–9", Words("fill the cells, three digits each"), tuple("0123456789"), ("digit",) * 10, inside=DIGITS),
        Key("Backspace", Words("a digit back"), ("Backspace",), ("rub",), inside=DIGITS),
        Key("-", Words("back one cell"), ("-",), ("cell -1",), inside=DIGITS),
        Key("S", Words("skip this pack"), ("s",), ("press skip-pack",)),
        Key("T", Words("pack temperature"), ("t",), ("focus temperature",)),
        Key("R", Words("read it with the checker"), ("r",), ("press from-checker",)),
        Key("X", Words("looks wrong: quarantine"), ("x",), ("press looks-wrong",)),
    ),
    "Match": (
        Key("↑ ↓", Words("along the packs of the table"), ("ArrowUp", "ArrowDown"), ("along -1", "along 1")),
        Key("1–9", Words("move the pack to that group (A is 1)"), tuple("123456789"), ("group",) * 9, outside=DIGITS),
        Key("Del", Words("take the pack out"), ("Delete",), ("row out",)),
        Key("B", Words("put it back"), ("b",), ("row back",)),
    ),
    "Run": (
        Key("A", Words("all of these are OK: inspected, and saved"), ("a",), ("press all-sound",)),
        Key("R", Words("read the next pack with the checker, after a charge"), ("r",), ("press from-checker",)),
        Key("Space", Words("record a check"), (" ",), ("press record-check",), outside="a, button, summary, input"),
        Key("Shift Space", Words("stop the channel, asked once"), (" ",), ("press stop",), shift=True),
    ),
    "Something's wrong": (
        Key("S", Words("stop everything that charges"), ("s",), ("press stop-all",)),
        Key("1–4", Words("what you see"), tuple("1234"), tuple(f"press trouble-{number}" for number in "1234")),
    ),
    "Heats": (
        Key(
            "← →",
            Words("the heat before, the heat after"),
            ("ArrowLeft", "ArrowRight"),
            ("press page-left", "press page-right"),
        ),
        Key("[ ]", Words("starts 1 min earlier, later"), ("[", "]"), ("press move-back", "press move-on")),
        Key("{ }", Words("5 min earlier, later"), ("{", "}"), ("press move-back-5", "press move-on-5")),
    ),
    "Plan": (
        Key("R", Words("plan again from now"), ("r",), ("press plan-anew",)),
        Key("← →", Words("along the batches"), ("ArrowLeft", "ArrowRight"), ("batch -1", "batch 1")),
        Key("[ ]", Words("start 1 min earlier, later"), ("[", "]"), ("press move-back", "press move-on")),
        Key("{ }", Words("5 min earlier, later"), ("{", "}"), ("press move-back-5", "press move-on-5")),
        Key("L", Words("to the next channel"), ("l",), ("lane",)),
        Key("K", Words("keep it there, or let it move"), ("k",), ("press keep-batch",)),
        Key(
            "1–3",
            Words("take that offer"),
            tuple("123"),
            tuple(f"press offer-{number}" for number in "123"),
            outside=DIGITS,
        ),
    ),
}


def acts() -> list[dict[str, object]]:
    """The list as the script takes it: one entry a key."""
    return [entry for keys in KEYS.values() for entry in _entries(keys)]


def _entries(keys: Iterable[Key]) -> Iterable[dict[str, object]]:
    for key in keys:
        for name, act in zip(key.keys, key.does, strict=True):
            plain = {part: value for part, value in asdict(key).items() if part in ("inside", "outside", "shift")}
            yield {"key": name, "does": act, **plain}
