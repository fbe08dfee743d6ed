"""The language of each device: asked of its browser, changed on any page, kept in a cookie."""

import json

from flask import Flask, g, request

from iterum.core.say import ENGLISH, LANGUAGE, Words, translated
from iterum.wording.languages import NAMES, best_of, language

COOKIE = "iterum_language"
SCRIPT_WORDS = (
    Words("Delete it"),
    Words("Iterum has not answered for {seconds} s: look at the charger itself."),
    Words("Kept here: {count} waiting"),
    Words("Kept here: {count} waiting, {asked} with a question"),
    Words("Leave this page open until the link is back."),
    Words("Look"),
    Words("No answer: it is not known whether the charger was told. Look at the charger itself."),
    Words("Not sent: there is no link, and the charger was not told. Do it at the charger itself."),
    Words("STOP"),
    Words("Stop this channel?"),
    Words("must be checked again"),
    Words("on this page"),
    Words("was refused"),
    Words("{time} late"),
    Words("{what} is kept on this device."),
)
"""What scripts say: it is sent with each page that is not in English."""


def chosen() -> str:
    """The language of whoever asks, by its code."""
    kept = request.cookies.get(COOKIE, "")
    return kept if kept in NAMES else best_of(request.accept_languages.values())


def tongue() -> str:
    """The language that is spoken, as a page names it."""
    return LANGUAGE.get().locale.replace("_", "-")


def script_words() -> str:
    """What scripts say, by its English, as JSON; nothing in English."""
    if LANGUAGE.get() is ENGLISH:
        return ""
    return json.dumps({str(text): translated(text) for text in SCRIPT_WORDS}, ensure_ascii=False)


def own_language(app: Flask) -> None:
    """Have every request answered in the language of its device."""

    @app.before_request
    def choose() -> None:
        g.spoken_before = LANGUAGE.set(language(chosen()))

    @app.teardown_request
    def end(_error: BaseException | None) -> None:
        if "spoken_before" in g:
            LANGUAGE.reset(g.pop("spoken_before"))
