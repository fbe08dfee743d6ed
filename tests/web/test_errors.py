"""What is asked for and cannot be done is a page with its reason; a defect is one too, and is written down."""

import logging

import pytest
from flask import Flask

from iterum.core.fields import BadInput, Fault
from iterum.core.reasons import Busy, NotThere, Unsafe, reason
from iterum.web.app import create_app
from tests.conftest import NOON


def failing(tmp_path, error) -> Flask:
    """The application with one page more, in which something of ours fails."""
    app = create_app(tmp_path / "bench.sqlite3", lambda: NOON)

    @app.get("/fails")
    def fails():
        raise error

    return app


@pytest.mark.parametrize(("error", "status", "told"), [
    (NotThere("pack", "P-99"), 404, "renamed or retired"),
    (Unsafe((reason("damaged"),)), 409, "Marked as damaged. Never charge it"),
    (BadInput([Fault("packs[0].cells", "must be a whole number")]), 422, "packs[0].cells: must be a whole number"),
    (Busy("the batch is charging by now"), 409, "the batch is charging by now"),
    (KeyError("P-99"), 500, "A defect in Iterum"),
    (LookupError("nothing"), 500, "A defect in Iterum"),
    (ZeroDivisionError(), 500, "A defect in Iterum"),
])  # fmt: skip
def test_each_kind_of_error_is_a_page_of_its_own_and_only_defects_are_logged(tmp_path, caplog, error, status, told):
    with caplog.at_level(logging.ERROR):
        answer = failing(tmp_path, error).test_client().get("/fails")
    assert (answer.status_code, told in answer.text) == (status, True)
    assert ("renamed or retired" in answer.text) == isinstance(error, NotThere)
    assert bool(caplog.records) == (status == 500)
    assert "Traceback" not in answer.text


def test_the_address_of_a_form_leads_back_to_its_page(visitor):
    answer = visitor.client.get("/measure/wrong")
    assert (answer.status_code, answer.headers["Location"]) == (302, "/measure")
    assert visitor.client.get("/rehearse/begin").headers["Location"] == "/rehearse"
