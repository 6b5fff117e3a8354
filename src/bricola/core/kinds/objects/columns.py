"""The columns of an object in statements. Every part is built from names in the definition, quoted."""

from bricola.core.kinds.objects.shape import ResolvedObject
from bricola.core.sql.statements import quoted, table_name

_SELF = "t"  # the object's own table, where others are joined to it


def column(source: ResolvedObject, field: str) -> str:
    """The column of a field in the object's own table."""
    found = source.definition.field(field)
    assert found is not None  # resolving has checked every reference
    return quoted(found.column_name)


def columns_of(source: ResolvedObject) -> dict[str, str]:
    """What each field is in a SELECT of the object with its parents."""
    joined = bool(source.definition.parents)
    return {one.name: f"{quoted(one.parent or _SELF)}.{quoted(one.column_name)}" if joined else quoted(one.column_name)
            for one in source.definition.fields}


def from_clause(source: ResolvedObject) -> str:
    definition = source.definition
    text = table_name(definition.table)
    if not definition.parents:
        return text
    text += f" AS {quoted(_SELF)}"
    for parent in definition.parents:
        on = " AND ".join(
            f"{quoted(parent.name)}.{quoted(theirs)} = {quoted(_SELF)}.{column(source, mine)}" for mine, theirs in parent.on.items()
        )
        text += f" LEFT JOIN {table_name(parent.table)} AS {quoted(parent.name)} ON {on}"
    return text


def utc_fields(source: ResolvedObject) -> frozenset[str]:
    return frozenset(one.name for one in source.definition.fields if one.zone == "utc")
