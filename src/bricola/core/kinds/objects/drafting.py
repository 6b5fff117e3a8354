"""Drafts: an object, and a service with the operations that were ticked, made from a table in one step."""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.definitions.names import kebab_case, label_of, pascal_case, readable, readable_names, snake_case, words_of
from bricola.core.kinds.objects.definition import Child, Finder, HashToken, ObjectDefinition, ObjectField
from bricola.core.kinds.objects.shape import CHANGE_TOKEN
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.typed import simple_type
from bricola.core.sql.filters import Filter
from bricola.core.sql.tables import OPEN_ZONE, Column, ForeignKey, Table

OPERATIONS = ("get", "check", "find", "create", "update", "save", "delete")
USUAL = ("get", "find")  # nothing writes that was not asked for
_VERSION = {"row_version", "rowversion", "version", "lock_version", "revision", "row_revision", "versionno", "version_no"}
_INTEGERS = ("short", "int", "long", "integer", "unsignedInt")
_NAMES = ("name", "title", "label", "description", "town", "place", "city")
_TAKEN = (CHANGE_TOKEN,)
_MOST_CONTAINED = 2  # filters by a part of a text; more would only clutter the contract


@dataclass(frozen=True)
class Wish:
    """What is wanted of a table. `children` are tables whose rows belong to each row; `samples` real values by column; `lookups`
    are tables of codes that it refers to, which become objects to pick from; `zone` (utc, local) is that of moments which do not say it."""

    backend: str
    name: str = ""
    service: str = ""
    operations: tuple[str, ...] = USUAL
    roles: tuple[str, ...] = ()
    children: tuple[Table, ...] = ()
    samples: Mapping[str, Any] | None = None
    lookups: tuple[Table, ...] = ()
    zone: str = ""


def draft(table: Table, wish: Wish, catalogue: Catalogue) -> list[Definition]:
    """The object, the objects of its children, and the service where one is wanted. Raises ProblemError with every
    reason why not."""
    problems = [Problem("discover.table", f"No object can be made of {one.name}: {reason}.", place=one.name,
                        mend="Name the columns with --key." if "no key" in reason else "")
                for one in (table, *wish.children) for reason in one.reasons]
    unknown = [one for one in wish.operations if one not in OPERATIONS]
    problems += [Problem("discover.operation", "There is no such operation.", choices=tuple(OPERATIONS), found=shown(one))
                 for one in unknown]
    problems += [
        Problem("discover.view", f"{table.name} is a view: rows are written through tables.", expected="get, check or find", found=one)
        for one in wish.operations
        if table.kind == "view" and one in OPERATIONS[3:]
    ]
    if problems:
        raise ProblemError(*problems)
    found = [_lookup(one, wish, catalogue) for one in wish.lookups if _object_of(one.name, wish.backend, catalogue) is None]
    catalogue = catalogue | Catalogue(found)
    name = wish.name or kebab_case(readable(table.name.rpartition(".")[2])) or "thing"
    made: list[Definition] = [*found]
    children = []
    for one in wish.children:
        key = next((key for other, key in table.referenced_by if other == one.name), None)
        if key is None:
            raise ProblemError(Problem("discover.child", f"{one.name} does not refer to {table.name}.", place=one.name,
                                       expected="none", choices=tuple(other for other, _ in table.referenced_by)))
        # Not one with children: what belongs to its rows would be left out, and here it would be refused.
        known = next((two for two in _objects_of(one.name, wish.backend, catalogue) if not two.children), None)
        called = kebab_case(readable(one.name.rpartition(".")[2]))
        record = pascal_case(called)  # the name of its element, whatever the object must be called
        called = f"{name}-{called}" if ("object", called) in catalogue else called
        made_child = draft_object(one, called, wish, catalogue, (), None)
        child = known or made_child.model_copy(update={"record": record if made_child.record_name != record else ""})
        if known is None:
            made.append(child)
        children.append(_child(child, one, key, table))
    made.insert(0, draft_object(table, name, wish, catalogue, tuple(children), wish.samples))
    if wish.service:
        definition = made[0]
        assert isinstance(definition, ObjectDefinition)
        made.append(_service(definition, wish))
    return made


def left_out(table: Table) -> list[Column]:
    """The columns that cannot be published, since messages have no type for them."""
    return [one for one in table.columns if not one.type.base]


def open_zones(table: Table) -> list[str]:
    """The fields that hold moments of which the database does not say in which zone they are."""
    names = readable_names((one.name for one in table.columns if one.type.base), _TAKEN)
    return [names[one.name] for one in table.columns if one.type.zone == OPEN_ZONE]


def _lookup(table: Table, wish: Wish, catalogue: Catalogue) -> ObjectDefinition:
    called = kebab_case(readable(table.name.rpartition(".")[2])) or "codes"
    called = f"{wish.backend}-{called}" if ("object", called) in catalogue else called
    return draft_object(table, called, wish, catalogue, (), None)


def draft_object(table: Table, name: str, wish: Wish, catalogue: Catalogue, children: tuple[Child, ...],
                 samples: Mapping[str, Any] | None) -> ObjectDefinition:
    columns = [one for one in table.columns if one.type.base]
    version = next((one.name for one in columns if one.name.lower() in _VERSION and one.type.base in _INTEGERS and not one.nullable
                    and one.name not in table.key), "")
    names = readable_names((one.name for one in columns if one.name != version), _TAKEN)
    references = {key.columns[0]: key for key in table.foreign_keys if len(key.columns) == 1}
    fields = tuple(_field(one, names[one.name], references.get(one.name), wish, catalogue, samples or {})
                   for one in columns if one.name != version)
    return ObjectDefinition(
        name=name, description=table.comment[:2000], backend=wish.backend, table=table.name, key=tuple(names[one] for one in table.key),
        change_token=version or HashToken(hash="row"), fields=fields, children=children, finders=(_finder(fields, table, names),))


def _field(column: Column, name: str, reference: ForeignKey | None, wish: Wish, catalogue: Catalogue,
           samples: Mapping[str, Any]) -> ObjectField:
    facets = dict(column.type.facets)
    if column.codes and column.type.base in ("string", *_INTEGERS):
        facets = {"codes": column.codes}
    target = _object_of(reference.table, wish.backend, catalogue) if reference is not None else None
    refers = target is not None and len(target.key) == 1 and reference is not None
    kind = simple_type(column.type.base, facets, f"column {column.name}")
    default = column.default
    if default and kind.read(default)[1] is not None:
        default = ""
    sample = samples.get(column.name)
    written = None if sample is None or kind.accept(_plain(sample))[1] is not None else kind.write(kind.accept(_plain(sample))[0])
    return ObjectField(
        name=name, type=column.type.base, **facets, label=label_of(name), description=column.comment[:2000], required=not column.nullable,
        column="" if snake_case(name) == column.name else column.name, refers_to=target.name if refers and target is not None else "",
        read_only=column.made, database_default=column.filled, default=default or None, sample=written,
        zone=(wish.zone or "local") if column.type.zone == OPEN_ZONE else "utc" if column.type.zone == "utc" else "")


def _plain(value: Any) -> Any:
    return value if isinstance(value, bool | int | float | str) else str(value)


def _objects_of(table: str, backend: str, catalogue: Catalogue) -> Iterator[ObjectDefinition]:
    return (one for one in catalogue if isinstance(one, ObjectDefinition) and one.backend == backend and one.table == table)


def _object_of(table: str, backend: str, catalogue: Catalogue) -> ObjectDefinition | None:
    return next(_objects_of(table, backend, catalogue), None)


def _child(child: ObjectDefinition, table: Table, key: ForeignKey, parent: Table) -> Child:
    names = readable_names((one.name for one in parent.columns if one.type.base), _TAKEN)
    theirs = {one.column_name: one.name for one in child.fields}
    match = {theirs[mine]: names[target] for mine, target in zip(key.columns, key.targets, strict=True)}
    plural = readable(table.name.rpartition(".")[2])
    plural = plural if plural.endswith("s") else f"{plural}s"
    return Child(name=plural[0].lower() + plural[1:], object=child.name, match=match)


def _finder(fields: Sequence[ObjectField], table: Table, names: Mapping[str, str]) -> Finder:
    """A search by what people search by: codes, what the row belongs to, a part of a name."""
    referring = {names[one] for key in table.foreign_keys if len(key.columns) == 1 for one in key.columns if one in names}
    unique = {names[one] for one in table.unique if one in names and one not in table.key}
    filters = [Filter(name=one.name, field=one.name) for one in fields if one.codes or one.name in referring | unique]
    texts = [one for one in fields if one.type == "string" and not one.codes and one.name not in referring | unique
             and any(word in one.name.lower() for word in _NAMES)]
    filters += [Filter(name=f"{one.name}Contains", field=one.name, compare="contains") for one in texts[:_MOST_CONTAINED]]
    noun = " ".join(re.findall(r"[A-Z]?[a-z0-9]+", readable(table.name.rpartition(".")[2]))).lower()
    by = [f"part of the {words_of(one.field)}" if one.compare == "contains" else words_of(one.field) for one in filters]
    listed = f" by {', '.join(by[:-1])} and {by[-1]}" if len(by) > 1 else f" by {by[0]}" if by else ""
    return Finder(name="search", description=f"Finds rows of {noun}{listed}.", filters=tuple(filters))


def _service(definition: ObjectDefinition, wish: Wish) -> ServiceDefinition:
    record = definition.record_name
    plural = record if record.endswith("s") else f"{record}s"
    words = " ".join(one.lower() for one in re.findall(r"[A-Z][a-z0-9]*", record))
    verbs = {
        "get": (f"Get{record}", "get", f"Reads one {words} by its key."), "check": (f"Check{record}", "check", ""),
        "find": (f"Find{plural}" if plural != record else f"Find{record}", "search", ""), "create": (f"Create{record}", "create", ""),
        "update": (f"Update{record}", "update", ""), "save": (f"Save{record}", "save", ""), "delete": (f"Delete{record}", "delete", ""),
    }
    operations = tuple(Operation(name=verbs[one][0], runs=f"{definition.name}.{verbs[one][1]}", description=verbs[one][2])
                       for one in OPERATIONS if one in wish.operations)
    return ServiceDefinition(
        name=wish.service,
        description=definition.description or f"The {words} table of {wish.backend}",
        namespace=f"urn:service:{kebab_case(wish.service)}",
        access=dict.fromkeys(wish.roles, "all"),
        operations=operations,
    )
