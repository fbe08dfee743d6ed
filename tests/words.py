"""Every sentence of the interface with where it shows: `make words` prints them, to be read by a newcomer."""

import ast
import re
from pathlib import Path

from bs4 import BeautifulSoup, Comment

ROOT = Path(__file__).parents[1]
HEAD = "# Every sentence of the interface\n\n… stands for what is filled in.\n"
SPOKEN = re.compile(r"[A-Za-z]{2,}.*\s")


def _of_template(path):
    text = re.sub(r"\{#.*?#\}", "", path.read_text("utf-8"), flags=re.S)
    inside = [
        item
        for part in re.findall(r"\{[{%](.*?)[%}]\}", text, flags=re.S)
        for item in re.findall(r'"([^"<>]*)"|\'([^\'<>]*)\'', part)
    ]
    text = re.sub(r"\{\{.*?\}\}", "…", re.sub(r"\{%.*?%\}", "\n", text, flags=re.S), flags=re.S)
    page = BeautifulSoup(text, "lxml")
    for item in page.find_all(string=lambda piece: not isinstance(piece, Comment)):
        if item.parent.name in ("script", "style"):
            continue
        for line in item.split("\n\n"):
            yield " ".join(line.split())
    for item in page.find_all(True):
        for name in ("aria-label", "placeholder", "title"):
            if item.get(name):
                yield " ".join(str(item[name]).split())
    for pair in inside:
        said = " ".join((pair[0] or pair[1]).split())
        if re.match(r"[A-Z][a-z].* ", said):
            yield said


def _of_code(path):
    tree = ast.parse(path.read_text("utf-8"))
    notes = set()
    for node in ast.walk(tree):
        body = getattr(node, "body", None)
        if isinstance(body, list):
            notes |= {
                id(item.value) for item in body if isinstance(item, ast.Expr) and isinstance(item.value, ast.Constant)
            }
    for node in ast.walk(tree):
        if isinstance(node, ast.JoinedStr):
            yield "".join(part.value if isinstance(part, ast.Constant) else "…" for part in node.values)
            notes |= {id(part) for part in ast.walk(node)}
        elif isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in notes:
            yield node.value


def _spoken(text):
    """Words to people: no addresses, names of code, selectors."""
    return (
        bool(SPOKEN.search(text + " "))
        and " " in text
        and not re.search(r"[=<>\[\]\\|#]|^\W*$|^[a-z_.-]+( [a-z_.-]+)*$|SELECT |PRAGMA|UPDATE ", text)
    )


def made():
    web, told = ROOT / "src/iterum/web", [HEAD]
    sources = [(path, _of_template) for path in sorted(web.rglob("*.html"))]
    for folder in ("src/iterum/wording", "src/iterum/web", "src/iterum/core/things", "src/iterum/core/season"):
        sources += [(path, _of_code) for path in sorted((ROOT / folder).rglob("*.py"))]
    seen = set()
    for path, read in sources:
        lines = [text for text in dict.fromkeys(read(path)) if _spoken(text) and text not in seen]
        if "core" in path.parts:
            lines = [text for text in lines if re.match(r"[A-Z“]", text) and " " in text]
        seen |= set(lines)
        if lines:
            where = path.relative_to(ROOT / "src/iterum")
            told.append(f"\n## {where}\n\n" + "\n".join(f"- {' '.join(text.split())}" for text in lines) + "\n")
    return "".join(told)


if __name__ == "__main__":
    print(made(), end="")
