"""How tables of a database become objects and operations, many at once: a rule that is said once, and repeated when tables are added."""

import re
from fnmatch import translate
from functools import lru_cache
from typing import Annotated, ClassVar, Literal

from pydantic import AfterValidator, StringConstraints

from bricola.core.definitions.base import Definition, Line, Name, Refers
from bricola.core.definitions.names import pascal_case
from bricola.core.definitions.runs import add_kind

Pattern = Annotated[str, StringConstraints(min_length=1, max_length=200)]  # with * for anything and ? for one character


def _template(text: str) -> str:
    """What stands in braces is known, and every brace has its other half."""
    rest = re.sub(r"\{(table|schema)\}", "", text)
    if wrong := re.search(r"\{[^{}]*\}|[{}]", rest):
        raise ValueError(f"there is no {wrong.group()}; there are {{table}} and {{schema}}")
    return text


Template = Annotated[str, AfterValidator(_template)]


class TableRule(Definition):
    """Tables whose names match one of `tables` and none of `except_tables` get these `operations`. `object` and `service` are names, in
    which `{table}` and `{schema}` stand for those of each table; the schema of the connection itself is called as the backend. Columns that
    match one of `left_out` are not published. `roles` may call what is new."""

    kind: ClassVar[str] = "table-rule"
    name: Name
    """What people call the rule."""
    description: Line = ""
    """Why it is so."""
    backend: Annotated[Name, Refers("backend")]
    """The database."""
    tables: tuple[Pattern, ...] = ("*",)
    """Names of tables, with * for anything and ? for one character."""
    except_tables: tuple[Pattern, ...] = ()
    """Names that are not taken after all."""
    operations: tuple[str, ...] = ("get", "find")
    """What each table gets."""
    object: Template = "{table}"
    """The name of each object; {table} and {schema} stand for those of the table."""
    service: Template = "{schema}"
    """The name of each service, with {table} and {schema}."""
    left_out: tuple[Pattern, ...] = ()
    """Columns that are not published, with * and ?."""
    roles: Annotated[tuple[Name, ...], Refers("role")] = ()
    """Roles that may call what is new."""
    zone: Literal["", "utc", "local"] = ""
    """What columns mean that hold moments without a zone."""

    def takes(self, table: str) -> bool:
        return _matches(self.tables, table) and not _matches(self.except_tables, table)

    def leaves_out(self, column: str) -> bool:
        return _matches(self.left_out, column)

    def names(self, table: str) -> tuple[str, str]:
        """The readable names of the object and of the service of a table."""
        schema, _, own = table.rpartition(".")
        parts = {"table": own, "schema": schema or self.backend}
        return self.object.format(**parts), pascal_case(self.service.format(**parts))


add_kind(TableRule)


def _matches(patterns: tuple[str, ...], name: str) -> bool:
    """Whether a name, or what stands behind its schema, matches one of them; in capitals or not."""
    words = (name.lower(), name.lower().rpartition(".")[2])
    return any(_compiled(one.lower()).match(word) for one in patterns for word in words)


@lru_cache(1024)
def _compiled(pattern: str) -> re.Pattern[str]:
    return re.compile(translate(pattern.replace("[", "[[]")))
