"""A language that nobody speaks, made of English: longer, and accented, so that a word that was not looked up shows."""

import re

from iterum.core.say import Language
from tests.messages import KEPT as KEPT_IN
from tests.messages import key_of, messages

ACCENTS = str.maketrans("aeiouAEIOU", "äëïöüÄËÏÖÜ")
KEPT = re.compile(r"(\{[^{}]*\}|<[^<>]*>|&\w+;)")


def accented(text):
    """Longer by 40 %, as German or French may be; values, tags and entities as they are."""
    parts = KEPT.split(text)
    said = "".join(part if KEPT.fullmatch(part) else part.translate(ACCENTS) for part in parts)
    longer = round(0.4 * len(KEPT.sub("", text)))
    return said + " " + " ".join("ö" * min(9, longer - at) for at in range(0, longer, 10))


def pseudo(longer=True):
    made = {}
    for text in messages():
        forms = (text,) if isinstance(text, str) else text
        told = tuple(accented(form) if longer else accented(form).rsplit(" ", 1)[0] for form in forms)
        made[forms[0]] = told[0] if len(told) == 1 else told
    kept = (key_of(text) for text, places in messages().items() if any(place.endswith(f" {KEPT_IN}") for place in places))
    return Language("xx", "en_GB", "Pseudo", made, frozenset(kept))
