"""Fails where code outside of its folder compares with the name of a kind of source or of an engine.

Such a comparison is a decision that belongs to the kind or engine: it says so in the value that it exports. Run by `make check`.
"""

import ast
import re
import sys
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
KINDS = {"object", "query", "screen-flow"}
ENGINES = {"sqlite", "postgresql", "mariadb", "tn3270", "tn5250"}
OWN = (
    "core/kinds/objects", "core/kinds/queries", "core/kinds/screens", "server/kinds/objects", "server/kinds/queries",
    "server/kinds/screens", "core/definitions/engines", "adapters/engines", "demo",
)
CONSOLE_OWN = ("kinds/object/", "kinds/query/", "kinds/screen-flow/")
# === "x", !== "x", case "x", .includes("x") — a comparison in TypeScript
CONSOLE = re.compile(r"""(?:[!=]==?\s*|case\s+|includes\(\s*)["'](%s)["']""" % "|".join(sorted(KINDS | ENGINES)))


def strings(node: ast.AST) -> Iterator[str]:
    for one in ast.walk(node):
        if isinstance(one, ast.Constant) and isinstance(one.value, str):
            yield one.value


def compared(tree: ast.AST) -> Iterator[tuple[int, str]]:
    """Every name of a kind or engine that something is compared with, matched against, or looked up by in a table."""
    for node in ast.walk(tree):
        places: list[ast.AST] = []
        if isinstance(node, ast.Compare):
            places = [node.left, *node.comparators]
        elif isinstance(node, ast.MatchValue):
            places = [node.value]
        elif isinstance(node, ast.Dict):
            places = [key for key in node.keys if isinstance(key, ast.Constant)]
        # "object" and "query" are words of JSON too, so as keys of a table only engines are looked for
        words = ENGINES if isinstance(node, ast.Dict) else ENGINES | KINDS
        for place in places:
            yield from ((place.lineno, word) for word in strings(place) if word in words)  # type: ignore[attr-defined]


def main() -> int:
    found = []
    package = ROOT / "src" / "bricola"
    for file in sorted(package.rglob("*.py")):
        inside = file.relative_to(package).as_posix()
        if inside.startswith(OWN):
            continue
        found += [f"{file.relative_to(ROOT)}:{line}: compares with '{word}'" for line, word in compared(ast.parse(file.read_text()))]
    console = ROOT / "console" / "src"
    for file in sorted((*console.rglob("*.ts"), *console.rglob("*.tsx"))):
        inside = file.relative_to(console).as_posix()
        if inside.startswith(CONSOLE_OWN):
            continue
        for number, line in enumerate(file.read_text().splitlines(), 1):
            line = re.sub(r"typeof [^=!]+[=!]==?\s*\"object\"", "", line)  # a type of JavaScript
            found += [f"{file.relative_to(ROOT)}:{number}: compares with '{one[1]}'" for one in CONSOLE.finditer(line)]
    for one in found:
        print(one)
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
