"""Address of the what-if page: the question stands in the address, so that an answer can be passed on as a link."""

from flask import Blueprint, render_template, request

from iterum.core.things.chemistry import CHEMISTRIES
from iterum.web.context import desk
from iterum.web.what_if.views import FIELDS, answer, read_question

blueprint = Blueprint("what_if", __name__, url_prefix="/what-if", template_folder="templates")


@blueprint.get("")
def page() -> str | tuple[str, int]:
    """One question and its answer; nothing is stored."""
    texts, numbers, faults = read_question(request.args)
    rules = desk().session().rules
    shown = answer(texts["chemistry"], numbers, rules) if not faults else None
    chemistries = [(item.name, item.label) for item in CHEMISTRIES.values() if item.joins]
    template = "what_if/answer.html" if request.headers.get("HX-Request") else "what_if/page.html"
    body = render_template(template, fields={ask.name: ask for ask in FIELDS}, texts=texts, faults=faults, shown=shown,
                           chemistries=chemistries, rules=rules)  # fmt: skip
    return (body, 422) if faults else body
