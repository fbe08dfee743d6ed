"""Styles and scripts: whole, under an address of their version, and kept by browser and device for good."""

import re

from iterum.web.assets import FOLDER, STYLES, asset, kept_files


def test_a_page_asks_for_one_style_sheet_and_one_script_that_hold_all_of_them(demo_app):
    visitor = demo_app.test_client()
    page = visitor.get("/measure").text
    own = set(re.findall(r'(?:href|src)="(/static/[^"]+\.(?:css|js))"', page))
    assert own == {asset(name) for name in (
        "vendor/bootstrap.min.css", "css/iterum.css", "vendor/htmx.min.js", "iterum.js")}  # fmt: skip
    assert {path.stem for path in (FOLDER / "css").glob("*.css")} == set(STYLES)
    styles = visitor.get(asset("css/iterum.css")).text
    script = visitor.get(asset("iterum.js")).text
    assert all(path.read_text("utf-8") in styles for path in (FOLDER / "css").glob("*.css"))
    for path in (FOLDER / "js").glob("*.js"):
        for line in path.read_text("utf-8").splitlines():
            assert line.startswith("import ") or line.removeprefix("export ") in script, (path.name, line)
    assert not re.search(r"^(import|export)\b", script.split("\n", 1)[1], re.MULTILINE)


def test_what_stands_under_the_address_of_a_version_is_kept_and_a_missing_one_is_not(demo_app):
    visitor = demo_app.test_client()
    for name in kept_files():
        answer = visitor.get(name)
        answer.close()
        assert answer.status_code == 200, name
        assert "immutable" in answer.headers["Cache-Control"], name
    for other in (asset("css/none.css"), asset("iterum.js").replace("/static/", "/static/0")):
        answer = visitor.get(other)
        assert (answer.status_code, answer.headers["Cache-Control"]) == (404, "no-store")
    shell = visitor.get("/shell.js")
    assert all(name in shell.text for name in kept_files())
    assert shell.headers["Cache-Control"] == "no-store"
