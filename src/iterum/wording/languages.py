"""The languages that Iterum speaks, each a catalogue beside this package; English is in the code itself."""

import os
from collections.abc import Iterable
from functools import cache
from gettext import c2py
from importlib.resources import files

from iterum.core.say import ENGLISH, Language

LOCALES = {
    "en": ("English", "en_GB"),
    "de": ("Deutsch", "de_DE"),
    "fr": ("Français", "fr_FR"),
    "es": ("Español", "es_ES"),
}
"""Each language by its code: named in itself, and how it writes figures."""
NAMES = {code: name for code, (name, _) in LOCALES.items()}


@cache
def language(code: str) -> Language:
    """A language with its catalogue. Raises KeyError for one that Iterum does not speak.

    code : one of LOCALES.
    """
    if code == "en":
        return ENGLISH
    # Here, because the library costs a command in English more than its own work.
    from babel import Locale  # noqa: PLC0415
    from babel.messages.pofile import read_po  # noqa: PLC0415

    name, written_as = LOCALES[code]
    locale = Locale.parse(written_as)
    with files("iterum.languages").joinpath(f"{code}.po").open("rb") as stream:
        catalogue = read_po(stream, locale=locale)
    messages: dict[str, str | tuple[str, ...]] = {}
    kept = []
    for message in catalogue:
        if not message.id or not message.string:
            continue
        if isinstance(message.id, tuple):
            if all(message.string):
                messages[str(message.id[0])] = tuple(message.string)
        else:
            messages[str(message.id)] = str(message.string)
            if "kept" in message.flags:
                kept.append(str(message.id))
    return Language(
        code,
        written_as,
        name,
        messages,
        frozenset(kept),
        plural=c2py(catalogue.plural_expr),
        decimal=locale.number_symbols["latn"]["decimal"],
    )


def best_of(asked: Iterable[str]) -> str:
    """The first language asked for that Iterum speaks, by its code; English where there is none.

    asked : such as "de-AT" or "fr_FR.UTF-8", the best first.
    """
    for one in asked:
        code = one.replace("_", "-").split("-")[0].lower()
        if code in NAMES:
            return code
    return "en"


def of_system() -> str:
    """The language of this machine's commands, by the variables that say so."""
    said = (os.environ.get(name, "") for name in ("LC_ALL", "LC_MESSAGES", "LANG"))
    return best_of([next((one for one in said if one), "en")])
