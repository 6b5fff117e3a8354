"""The statements that writes of an object will send, with NULL for every value: a database reads them and runs none, and tells what it
would refuse whatever the values are (a table or column that is not there, one that cannot be written, a right that is missing)."""

from collections.abc import Sequence

from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.objects.columns import column
from bricola.core.kinds.objects.conflicts import own_columns
from bricola.core.kinds.objects.shape import ResolvedObject
from bricola.core.shapes.model import Record
from bricola.core.sql.statements import quoted, table_name

_NONE = "WHERE 1 = 0"


def taken(operation: ResolvedOperation) -> frozenset[str]:
    """The fields that an operation takes or gives itself; a save leaves the others of a row as they are."""
    elements = operation.shape.input.elements
    if operation.nested:
        inner = elements[0].type
        elements = inner.elements if isinstance(inner, Record) else ()
    return operation.given.names | {one.name for one in elements}


def written(operation: ResolvedOperation, source: ResolvedObject) -> tuple[list[str], list[str]]:
    """The statements that change rows, and those whose rows are held meanwhile; of the children, too."""
    verb, given = operation.verb, taken(operation)
    names = [one for one in own_columns(source.definition) if one in given]
    writes = list(_writes(source, verb, names, ()))
    holds = [] if verb == "create" else [_select(source)]
    for one in source.children:
        if not one.child.read_only and (verb == "delete" or one.child.name in given):
            theirs = [two for two in own_columns(one.source.definition) if two not in one.child.match]
            for each in {"create": ("create",), "delete": ("delete",)}.get(verb, ("create", "update", "delete")):
                writes += _writes(one.source, each, theirs, tuple(one.child.match))
            holds += [] if verb == "create" else [_select(one.source)]
    return writes, holds


def _select(source: ResolvedObject) -> str:
    keys = ", ".join(column(source, one) for one in source.definition.key)
    return f"SELECT {keys} FROM {table_name(source.definition.table)} {_NONE}"


def _writes(source: ResolvedObject, verb: str, names: Sequence[str], matched: tuple[str, ...]) -> list[str]:
    definition, table = source.definition, table_name(source.definition.table)
    token = quoted(definition.token_column) if definition.token_column else ""
    found = []
    if verb in ("create", "save"):
        made = [*matched, *(one for one in names if one not in definition.made_keys)]  # what the database makes need not be given
        columns = [*(column(source, one) for one in made), *([token] if token and not matched else [])]
        values = f"({', '.join(columns)}) VALUES ({', '.join(['NULL'] * len(columns))})" if columns else "DEFAULT VALUES"
        found.append(f"INSERT INTO {table} {values}")
    if verb in ("update", "save"):
        sets = [f"{column(source, one)} = NULL" for one in names if one not in definition.key]
        sets += [f"{token} = {token} + 1"] if token and not matched else []
        if sets:
            found.append(f"UPDATE {table} SET {', '.join(sets)} {_NONE}")
    if verb == "delete":
        found.append(f"DELETE FROM {table} {_NONE}")
    return found
