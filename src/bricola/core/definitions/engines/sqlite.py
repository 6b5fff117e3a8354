"""SQLite: a database in a file."""

from collections.abc import Iterator
from typing import Any

from bricola.core.definitions.engines.engine import Dialect, Engine, Family
from bricola.core.definitions.engines.places import FilePlace, FilePlaces, RequestMarks, Statements, Writing, path_fault
from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity

_OWN_STORES = ("bricola.db", "calls.db")
RULES = Rules(
    Rule("binding.file-path", Area.ENVIRONMENT, Severity.ERROR, "Files of backends lie below the folders that the operator allows."),
    Rule("binding.own-store", Area.ENVIRONMENT, Severity.ERROR, "Bricola's own store holds people and secrets."),
)


def _findings(backend: Any, binding: Any, environment: Any, where: str) -> Iterator[Finding]:
    for one in binding.ends:
        fault = path_fault(one.address)
        if fault:
            yield RULES.finding("binding.file-path", fault, f"{where}, file", found=one.address,
                                expected="a path below the allowed folders, like live/registry.db")
    if any(one.address in _OWN_STORES for one in binding.ends):
        yield RULES.finding("binding.own-store", "A backend cannot be Bricola's own store.", f"{where}, file",
                            found=", ".join(one.address for one in binding.ends))


ENGINE = Engine(
    "sqlite", "SQLite", Family.DATABASE, (FilePlace, FilePlaces, Writing, RequestMarks, Statements), is_file=True, example="file: …",
    dialect=Dialect(casts_decimals=True, texts={
        None: "CAST({0} AS TEXT)", bytes: "hex({0})", float: "CASE WHEN {0} IS NULL THEN NULL ELSE printf('%!.17g', {0}) END"}),
    needs_sign_on=lambda backend, binding: False, rules=RULES, findings=_findings,
)
