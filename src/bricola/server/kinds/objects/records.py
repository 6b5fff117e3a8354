"""Real rows for people who test: keys to pick as inputs, and what is stored beside what was answered."""

from collections.abc import Mapping
from datetime import UTC, datetime
from decimal import Decimal, InvalidOperation
from typing import Any

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.objects.columns import columns_of, from_clause
from bricola.core.kinds.objects.definition import Finder, ObjectDefinition
from bricola.core.kinds.objects.reads import RowSelect
from bricola.core.kinds.objects.shape import CHANGE_TOKEN, ResolvedObject, resolve_object
from bricola.core.kinds.objects.write_shape import CLEAR
from bricola.core.messages.request import MASK
from bricola.core.problems import ProblemError
from bricola.core.shapes.model import Element
from bricola.core.shapes.primitives import lexical
from bricola.core.shapes.simple import SimpleType
from bricola.core.sql.listing import ordering
from bricola.core.sql.rows import compile_row
from bricola.core.sql.sessions import DatabaseSession, DriverRow
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
            "rows": [{name: _text(value) for name, value in to_values(row).items() if value is not None} for row in rows[:limit]]}


async def beside(found: ResolvedOperation, values: dict[str, Any], answer: dict[str, Any], visit: Visit) -> dict[str, Any]:
    """What was answered (or, for a write, sent) beside the rows as they are stored now, read by a statement of its own.

    `ordered` tells whether a list stands in the stated order; None where there is none."""
    source: ResolvedObject = found.source
    finder = source.definition.finder(found.verb)
    items, side = _answered(found, values, answer)
    async with visit(source.definition.backend) as session:
        rows = [await _beside(session, source, one) for one in items]
        ordered = await _in_order(session, source, finder, items) if finder is not None and len(items) > 1 else None
    gone = found.verb == "delete" and finder is None
    equal = all(not one["found"] if gone else one["found"] and all(two["equal"] is not False for two in one["fields"]) for one in rows)
    return {"object": source.definition.name, "table": source.definition.table, "side": side, "rows": rows, "ordered": ordered,
            "deleted": gone, "equal": equal and ordered is not False}


def _is_telling(element: Element) -> bool:
    return (
        isinstance(element.type, SimpleType)
        and element.type.base not in ("base64Binary", "anyURI")
        and (element.type.max_length or 0) <= 120
    )


def _answered(found: ResolvedOperation, values: dict[str, Any], answer: dict[str, Any]) -> tuple[list[dict[str, Any]], str]:
    """The rows that the reply tells of. A write tells the key; what should be stored is what was sent."""
    if found.shape.writes:
        sent = values.get(found.nested, values) if found.nested else values
        emptied = sent.get(CLEAR)
        sent = {**sent, **dict.fromkeys([emptied] if isinstance(emptied, str) else emptied or ())}
        keys = {key: answer[key] for key in found.source.definition.key if key in answer}
        token = {CHANGE_TOKEN: answer[CHANGE_TOKEN]} if CHANGE_TOKEN in answer else {}
        return [{**sent, **keys, **token}], "sent"
    item = found.shape.output.elements[0].name
    told = answer.get(item, [])
    return (told if isinstance(told, list) else [told]), "answered"


async def _beside(session: DatabaseSession, source: ResolvedObject, told: Mapping[str, Any]) -> dict[str, Any]:
    definition = source.definition
    if any(key not in told for key in definition.key):
        return {"key": "", "found": False, "fields": [], "note": "The key is not part of the answer."}
    columns = columns_of(source)
    elements = {one.name: one for one in source.fields}
    wanted = [one.name for one in definition.fields if one.name in told]
    where = " AND ".join(f"{columns[key]} = ?" for key in definition.key)
    key = [_bindable(elements[one], told[one]) for one in definition.key]
    rows = await session.rows(f"SELECT {', '.join(columns[one] for one in wanted)} FROM {from_clause(source)} WHERE {where}", key)
    fields = []
    for index, name in enumerate(wanted):
        element, column = elements[name], definition.field(name)
        assert column is not None
        assert isinstance(element.type, SimpleType)
        stored = rows[0][index] if rows else None
        reply = None if told[name] is None else str(told[name])
        fields.append(
            {
                "field": name,
                "column": column.column_name,
                "reply": _masked(element, reply),
                "stored": _masked(element, _text(stored)),
                "equal": None if reply == MASK else bool(rows) and same_value(element.type, reply, stored, column.zone == "utc"),
            }
        )
    if CHANGE_TOKEN in told and source.tokened and rows:
        fields.append(await _token_beside(session, source, told, key, where))
    return {"key": " ".join(str(told[one]) for one in definition.key), "found": bool(rows), "fields": fields, "note": ""}


async def _token_beside(
    session: DatabaseSession, source: ResolvedObject, told: Mapping[str, Any], key: list[Any], where: str
) -> dict[str, Any]:
    reader = RowSelect(source)

    async def fetch(sql: str, parameters: Any) -> list[DriverRow]:
        return await session.rows(sql, parameters)

    rows = await session.rows(f"{reader.select} WHERE {where}", key)
    row = (await reader.complete([reader.to_values(rows[0])], fetch))[0]
    token = str(row[CHANGE_TOKEN])
    return {
        "field": CHANGE_TOKEN,
        "column": source.definition.token_column or "hash of the row",
        "reply": str(told[CHANGE_TOKEN]),
        "stored": token,
        "equal": token == told[CHANGE_TOKEN],
    }


async def _in_order(session: DatabaseSession, source: ResolvedObject, finder: Finder, items: list[dict[str, Any]]) -> bool | None:
    """Whether the rows stand as the database itself orders these keys."""
    definition = source.definition
    if any(key not in one for one in items for key in definition.key):
        return None
    columns = columns_of(source)
    elements = {one.name: one for one in source.fields}
    parts = []
    for word in ordering(finder.order, definition.key):
        name = word.removesuffix(" descending")
        parts += [f"({columns[name]} IS NULL)", columns[name] + (" DESC" if word != name else "")]
    one_key = "(" + " AND ".join(f"{columns[key]} = ?" for key in definition.key) + ")"
    parameters = [_bindable(elements[key], one[key]) for one in items for key in definition.key]
    rows = await session.rows(f"SELECT {', '.join(columns[key] for key in definition.key)} FROM {from_clause(source)}"
                              f" WHERE {' OR '.join([one_key] * len(items))} ORDER BY {', '.join(parts)}", parameters)
    told = [[_text(_bindable(elements[key], one[key])) for key in definition.key] for one in items]
    return told == [
        [_text(compile_row((elements[key],))([value])[key]) for key, value in zip(definition.key, row, strict=True)] for row in rows
    ]


def _bindable(element: Element, text: Any) -> Any:
    assert isinstance(element.type, SimpleType)
    value, problem = element.type.accept(text)
    if problem is not None:
        raise ProblemError(problem.at(element.name))
    return value


def _masked(element: Element, text: str | None) -> str | None:
    return MASK if element.sensitive and text is not None else text


def _text(value: Any) -> str | None:
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


def same_value(kind: SimpleType, reply: str | None, stored: Any, utc: bool) -> bool:
    """Whether a reply's text and a driver's raw value are the same value: judged by the value space of the type alone,
    not by the way that made the reply."""
    if reply is None or stored is None:
        return reply is None and stored is None
    text = _text(stored) or ""
    python = kind.primitive.python
    if python in (int, Decimal, float):
        try:
            return Decimal(reply) == Decimal(text) or abs(Decimal(reply) - Decimal(text)) <= abs(Decimal(text)) * Decimal("1e-12")
        except InvalidOperation:
            return False
    if python is bool:
        return (reply in ("true", "1", "True")) == (text in ("true", "1"))
    if python is datetime:
        one, other = (datetime.fromisoformat(part.replace("Z", "+00:00")) for part in (reply, text))
        if utc and other.tzinfo is None:
            other = other.replace(tzinfo=UTC)
        return one == other if (one.tzinfo is None) == (other.tzinfo is None) else False
    return reply == text
