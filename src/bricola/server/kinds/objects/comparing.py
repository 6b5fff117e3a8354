"""What was answered beside what is stored: read by statements of their own, in which the database itself writes each value as text.

Nothing of the way by which the operation reads is used: neither its statements, nor what its driver makes of values, nor how columns become
elements. So the two can disagree.
"""

import base64
import binascii
from collections.abc import Mapping
from datetime import UTC, date, datetime, time
from decimal import Decimal, InvalidOperation
from typing import Any

from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.objects.columns import columns_of, from_clause, utc_fields
from bricola.core.kinds.objects.definition import Finder
from bricola.core.kinds.objects.reads import RowSelect
from bricola.core.kinds.objects.shape import CHANGE_TOKEN, ResolvedChild, ResolvedObject
from bricola.core.kinds.objects.write_shape import CLEAR
from bricola.core.messages.request import MASK
from bricola.core.problems import ProblemError
from bricola.core.shapes.model import Element
from bricola.core.shapes.simple import SimpleType
from bricola.core.sql.listing import ordering
from bricola.core.sql.rows import compile_row
from bricola.core.sql.sessions import DatabaseSession, DriverRow
from bricola.core.sql.statements import quoted
from bricola.server.kinds.kind import Visit
from bricola.server.kinds.objects.records import text_of


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
    row = await _row(session, source, wanted, where, key)
    fields = [_field(source, name, told[name], row) for name in wanted]
    if CHANGE_TOKEN in told and source.tokened and row is not None:
        fields.append(await _token_beside(session, source, told, key, where))
    if row is not None:
        for child in source.children:
            if told.get(child.child.name) is not None:
                fields += await _children_beside(session, child, told)
    return {"key": " ".join(str(told[one]) for one in definition.key), "found": row is not None, "fields": fields, "note": ""}


async def _row(session: DatabaseSession, source: ResolvedObject, wanted: list[str], where: str, key: list[Any]) -> dict[str, Any] | None:
    """The texts of one row by field; None where there is no such row."""
    rows = await session.rows(f"SELECT {', '.join(_texts(source, wanted))} FROM {from_clause(source)} WHERE {where}", key)
    return dict(zip(wanted, rows[0], strict=True)) if rows else None


def _texts(source: ResolvedObject, wanted: list[str]) -> list[str]:
    columns, elements = columns_of(source), {one.name: one for one in source.fields}
    return [source.dialect.as_text(columns[name], _simple(elements[name]).primitive.python) for name in wanted]


def _field(source: ResolvedObject, name: str, told: Any, row: Mapping[str, Any] | None, place: str = "") -> dict[str, Any]:
    element = next(one for one in source.fields if one.name == name)
    column = source.definition.field(name)
    assert column is not None
    reply = None if told is None else str(told)
    stored = None if row is None else text_of(row[name])
    return {"field": f"{place}{name}", "column": column.column_name, "reply": _masked(element, reply), "stored": _masked(element, stored),
            "equal": None if reply == MASK else row is not None and same_value(
                _simple(element), reply, stored, column.zone == "utc", source.dialect.casts_decimals)}


async def _children_beside(session: DatabaseSession, child: ResolvedChild, told: Mapping[str, Any]) -> list[dict[str, Any]]:
    """How many there are, and each field that differs."""
    source, name = child.source, child.child.name
    definition = source.definition
    columns, elements = columns_of(source), {one.name: one for one in source.fields}
    inner = told[name].get(child.item, []) if isinstance(told[name], dict) else []
    items = inner if isinstance(inner, list) else [inner]
    if any(mine not in told for mine in child.child.match.values()):
        return []
    where = " AND ".join(f"{columns[theirs]} = ?" for theirs in child.child.match)
    key = [_bindable(elements[theirs], told[mine]) for theirs, mine in child.child.match.items()]
    wanted = [one.name for one in child.row.elements if isinstance(one.type, SimpleType)]
    order = ", ".join(columns[one] for one in definition.key)
    rows = await session.rows(
        f"SELECT {', '.join(_texts(source, wanted))} FROM {from_clause(source)} WHERE {where} ORDER BY {order}", key)
    found = [{"field": name, "column": definition.table, "reply": f"{len(items)} rows", "stored": f"{len(rows)} rows",
              "equal": len(items) == len(rows)}]
    keys, utc = [one for one in definition.key if one in wanted], utc_fields(source)
    stored = {tuple(text_of(row[wanted.index(one)]) for one in keys): dict(zip(wanted, row, strict=True)) for row in rows}
    known = all(one in item for item in items for one in keys)
    for number, item in enumerate(items, 1):
        row = next((two for texts, two in stored.items() if all(
            same_value(_simple(elements[one]), str(item[one]), text, one in utc) for one, text in zip(keys, texts, strict=True))), None) \
            if known else (dict(zip(wanted, rows[number - 1], strict=True)) if number <= len(rows) else None)
        fields = [_field(source, one, item[one], row, f"{name}/{child.item}[{number}]/") for one in wanted if one in item]
        found += [one for one in fields if one["equal"] is False]
    return found


async def _token_beside(
    session: DatabaseSession, source: ResolvedObject, told: Mapping[str, Any], key: list[Any], where: str
) -> dict[str, Any]:
    """A version is read as it stands; a digest can only be worked out again, by the one way in which it is defined."""
    reader = RowSelect(source)

    async def fetch(sql: str, parameters: Any) -> list[DriverRow]:
        return await session.rows(sql, parameters)

    if source.definition.token_column:
        place = f"{quoted('t')}." if source.definition.parents else ""
        text = source.dialect.as_text(place + quoted(source.definition.token_column), int)
        stored = await session.rows(f"SELECT {text} FROM {from_clause(source)} WHERE {where}", key)
        token = str(stored[0][0])
        return {"field": CHANGE_TOKEN, "column": source.definition.token_column, "reply": str(told[CHANGE_TOKEN]), "stored": token,
                "equal": token == told[CHANGE_TOKEN]}
    rows = await session.rows(f"{reader.select} WHERE {where}", key)
    row = (await reader.complete([reader.to_values(rows[0])], fetch))[0]
    token = str(row[CHANGE_TOKEN])
    return {
        "field": CHANGE_TOKEN,
        "column": "hash of the row",
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
    told = [[text_of(_bindable(elements[key], one[key])) for key in definition.key] for one in items]
    return told == [
        [text_of(compile_row((elements[key],))([value])[key]) for key, value in zip(definition.key, row, strict=True)] for row in rows
    ]


def _bindable(element: Element, text: Any) -> Any:
    assert isinstance(element.type, SimpleType)
    value, problem = element.type.accept(text)
    if problem is not None:
        raise ProblemError(problem.at(element.name))
    return value


def _masked(element: Element, text: str | None) -> str | None:
    return MASK if element.sensitive and text is not None else text


def _simple(element: Element) -> SimpleType:
    assert isinstance(element.type, SimpleType)
    return element.type


def same_value(kind: SimpleType, reply: str | None, stored: str | None, utc: bool = False, floats: bool = False) -> bool:
    """Whether a reply's text and the database's are the same value: judged by the value space of the type alone,
    not by the way that made the reply. `floats`: the engine keeps decimals as floating point, and tells them by 15 digits."""
    if reply is None or stored is None:
        return reply is None and stored is None
    python = kind.primitive.python
    try:
        if python in (int, Decimal):
            return Decimal(reply) == Decimal(stored) or (floats and python is Decimal and _is_near(reply, stored, "1e-12"))
        if python is float:
            return float(reply) == float(stored) or _is_near(reply, stored, "1e-5" if kind.base == "float" else "1e-12")
        if python is bool:
            return (reply in ("true", "1", "True")) == (stored in ("true", "t", "1"))
        if python is datetime:
            return _same_moment(datetime.fromisoformat(reply), datetime.fromisoformat(stored), utc)
        if python is time:
            return time.fromisoformat(reply) == time.fromisoformat(stored)
        if python is date:
            return date.fromisoformat(reply) == date.fromisoformat(stored)
        if python is bytes:
            return base64.b64decode(reply, validate=True).hex() == stored.lower()
    except (InvalidOperation, ValueError, binascii.Error):
        return False
    return reply == stored


def _is_near(reply: str, stored: str, part: str) -> bool:
    """What floating point adds on the way is no other value."""
    one, other = Decimal(reply), Decimal(stored)
    return abs(one - other) <= abs(other) * Decimal(part) if one.is_finite() and other.is_finite() else False


def _same_moment(one: datetime, other: datetime, utc: bool) -> bool:
    if utc and other.tzinfo is None:
        other = other.replace(tzinfo=UTC)
    return one == other if (one.tzinfo is None) == (other.tzinfo is None) else False
