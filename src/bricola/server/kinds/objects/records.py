"""Real rows for people who test: keys to pick as inputs, and what is stored beside what was answered."""

from typing import Any

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.kinds.objects.columns import columns_of, from_clause
from bricola.core.kinds.objects.definition import ObjectDefinition
from bricola.core.kinds.objects.shape import resolve_object
from bricola.core.shapes.model import Element
from bricola.core.shapes.primitives import lexical
from bricola.core.shapes.simple import SimpleType
from bricola.core.sql.rows import compile_row
from bricola.core.sql.statements import like_literal
from bricola.server.kinds.kind import Visit

_TOLD = 4  # fields beside the key, so that a person knows the row


async def keys(name: str, catalogue: Catalogue, search: str, limit: int, visit: Visit) -> dict[str, Any]:
    """Real keys of an object: those whose texts contain the search, or that are it."""
    definition = catalogue.get(ObjectDefinition, name)
    assert definition is not None  # frozen with the service
    source = resolve_object(definition, catalogue, with_children=False)
    key = definition.key[0]
    told = [one for one in source.fields if one.name != key and not one.sensitive and _is_telling(one)][:_TOLD]
    elements = tuple(one for one in source.fields if one.name == key or one in told)
    columns = columns_of(source)
    texts = [columns[one.name] for one in elements if isinstance(one.type, SimpleType) and one.type.base == "string" and not one.type.codes]
    where, parameters = "", []
    if search and texts:
        where = " WHERE " + " OR ".join(f"LOWER({one}) LIKE ? ESCAPE '!'" for one in texts)
        parameters = [f"%{like_literal(search.lower())}%"] * len(texts)
    elif search:
        where, parameters = f" WHERE {columns[key]} = ?", [search]
    sql = f"SELECT {', '.join(columns[one.name] for one in elements)} FROM {from_clause(source)}{where} ORDER BY {columns[key]} LIMIT ?"
    async with visit(definition.backend) as session:
        rows = await session.rows(sql, [*parameters, limit + 1])
    to_values = compile_row(elements)
    return {"object": definition.name, "key": key, "columns": [one.name for one in elements], "more": len(rows) > limit,
            "rows": [{name: text_of(value) for name, value in to_values(row).items() if value is not None} for row in rows[:limit]]}


def _is_telling(element: Element) -> bool:
    return (
        isinstance(element.type, SimpleType)
        and element.type.base not in ("base64Binary", "anyURI")
        and (element.type.max_length or 0) <= 120
    )



def text_of(value: Any) -> str | None:
    """The text of a driver's value. What a driver gives beyond the simple types (a UUID, an interval) is shown as it says itself;
    nothing is judged by that."""
    if value is None:
        return None
    if isinstance(value, bytearray | memoryview):
        value = bytes(value)
    try:
        return lexical(value)
    except TypeError:
        return str(value)
