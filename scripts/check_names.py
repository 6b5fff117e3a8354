"""Fails where code outside of its folder compares with the name of a kind of source or of an engine.

Such a comparison is a decision that belongs to the kind or engine: it says so in the value that it exports. Run by `make check`.
"""

import ast
import importlib
import re
import sys
from collections.abc import Iterator
from pathlib import Path

from bricola.core.definitions.engines import ENGINES
from bricola.core.kinds.registry import kinds

ROOT = Path(__file__).resolve().parent.parent
importlib.import_module("bricola.core.kinds")
KINDS = {one.word for one in kinds()}
WORDS = set(ENGINES) - {"http", "files"}  # a scheme of addresses, and a word of every folder, before they were engines


def folders(*places: str) -> tuple[str, ...]:
    """Every folder below these places, as a prefix of what is inside of it."""
    return tuple(f"{place}/{one.name}/" for place in places for one in (ROOT / place).iterdir() if one.is_dir())


# A kind's folders, an engine's, and the demo, which is a user of both.
OWN = (*folders("src/bricola/core/kinds", "src/bricola/server/kinds", "src/bricola/adapters/engines"),
       "src/bricola/core/definitions/engines/", "src/bricola/demo/")
CONSOLE_OWN = folders("console/src/kinds")
# === "x", !== "x", case "x", .includes("x") — a comparison in TypeScript
CONSOLE = re.compile(r"""(?:[!=]==?\s*|case\s+|includes\(\s*)["']({})["']""".format("|".join(sorted(KINDS | WORDS))))


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
        # "object", "query" and "soap" are words of JSON too, so as keys of a table only the other engines are looked for
        words = WORDS - {"soap"} if isinstance(node, ast.Dict) else WORDS | KINDS
        for place in places:
            yield from ((place.lineno, word) for word in strings(place) if word in words)  # type: ignore[attr-defined]


def main() -> int:
    found = []
    package = ROOT / "src" / "bricola"
    for file in sorted(package.rglob("*.py")):
        inside = file.relative_to(ROOT).as_posix()
        if inside.startswith(OWN):
            continue
        found += [f"{file.relative_to(ROOT)}:{line}: compares with '{word}'" for line, word in compared(ast.parse(file.read_text()))]
    console = ROOT / "console" / "src"
    for file in sorted((*console.rglob("*.ts"), *console.rglob("*.tsx"))):
        inside = file.relative_to(ROOT).as_posix()
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
