"""What reading an object takes and gives, and the object itself with everything that it names resolved."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.engine import Dialect
from bricola.core.definitions.model import Operation
from bricola.core.kinds.objects.definition import Child, Finder, ObjectDefinition
from bricola.core.messages.rows import left_out_element
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import Element, OperationShape, Record
from bricola.core.shapes.primitives import Value
from bricola.core.shapes.simple import SimpleType
from bricola.core.shapes.typed import typed_elements, typed_value
from bricola.core.sql.listing import PAGE_OUTPUTS, dialect_of, filter_element, filter_mistakes, item_name, not_found, ordering, page_inputs

READS = ("get", "check")
VERBS = (*READS, "create", "update", "save", "delete")  # what every object can do, beside its finders
CHANGE_TOKEN = "changeToken"
TOKEN = SimpleType("string", min_length=1, max_length=64)


@dataclass(frozen=True)
class ResolvedChild:
    """Rows that belong to each row. `row` is one of them as it is read, without what it shares with its parent;
    `input` the record of the list as it is written."""

    child: Child
    source: "ResolvedObject"
    row: Record
    input: Record

    @property
    def item(self) -> str:
        """The element that holds one of them."""
        return item_name(self.source.row)


@dataclass(frozen=True)
class ResolvedObject:
    """An object with its row as callers see it: the fields, the children, the change token."""

    definition: ObjectDefinition
    dialect: Dialect
    row: Record
    children: tuple[ResolvedChild, ...] = ()
    references: Mapping[str, ObjectDefinition] = field(default_factory=dict, hash=False)  # field -> what it refers to
    defaults: Mapping[str, Value] = field(default_factory=dict, hash=False)

    @property
    def tokened(self) -> bool:
        return bool(self.definition.change_token)

    @property
    def fields(self) -> tuple[Element, ...]:
        """The elements of the object's own fields."""
        return tuple(one for one in self.row.elements if one.name != CHANGE_TOKEN and not isinstance(one.type, Record))


def resolve_object(definition: ObjectDefinition, catalogue: Catalogue, with_children: bool = True) -> ResolvedObject:
    """Raises ProblemError with everything that the definition names and that is not there."""
    place = f"object {definition.name}"
    elements = list(typed_elements(definition.fields, catalogue, f"{place}, fields"))
    if len(definition.key) == 1:
        elements = [replace(one, key_of=definition.name) if one.name == definition.key[0] else one for one in elements]
    problems = list(_mistakes(definition, {element.name: element for element in elements}, catalogue))
    if problems:
        raise ProblemError(*problems)
    references = {}
    for position, one in enumerate(definition.fields):
        if one.refers_to:
            found = catalogue.get(ObjectDefinition, one.refers_to)
            assert found is not None  # looked at above
            references[one.name] = found
            elements[position] = replace(elements[position], key_of=one.refers_to)
    kinds = {element.name: element.type for element in elements}
    defaults = {one.name: typed_value(kinds[one.name], one.default, f"{place}, fields, {one.name}, default")  # type: ignore[arg-type]
                for one in definition.fields if one.default is not None}
    children = tuple(_child(definition, one, catalogue) for one in definition.children) if with_children else ()
    elements += [Element(one.child.name, Record(f"{definition.record_name}{_upper(one.child.name)}", (
        Element(one.item, one.row, 0, one.child.at_most),)), description=one.child.description) for one in children]
    if definition.change_token:
        elements.append(Element(CHANGE_TOKEN, TOKEN, description="Changes with every write of this row"))
    row = Record(definition.record_name, tuple(elements), definition.description)
    return ResolvedObject(definition, dialect_of(definition.backend, catalogue), row, children, references, defaults)


def _child(parent: ObjectDefinition, child: Child, catalogue: Catalogue) -> ResolvedChild:
    definition = catalogue.get(ObjectDefinition, child.object)
    assert definition is not None  # looked at by _mistakes
    source = resolve_object(definition, catalogue, with_children=False)
    shared = frozenset(child.match)
    own = tuple(one for one in source.fields if one.name not in shared)
    row = Record(f"{parent.record_name}{definition.record_name}", own, definition.description)
    writable = {one.name for one in definition.fields if one.writable}
    made = set(definition.made_keys)  # left out for a new row; given, it says which one is meant
    taken = tuple(replace(one, least=0, default=source.defaults[one.name]) if one.name in source.defaults
                  else replace(one, least=0) if one.name in made or _left_to_the_database(definition, one.name) else one
                  for one in own if one.name in writable or one.name in made)
    item = Element(item_name(source.row), Record(f"{row.name}Input", taken), 0, child.at_most)
    return ResolvedChild(child, source, row, Record(f"{parent.record_name}{_upper(child.name)}Input", (item,)))


def _left_to_the_database(definition: ObjectDefinition, name: str) -> bool:
    found = definition.field(name)
    return found is not None and found.database_default


def _upper(name: str) -> str:
    return name[0].upper() + name[1:]


def _mistakes(definition: ObjectDefinition, elements: Mapping[str, Element], catalogue: Catalogue) -> Iterator[Problem]:
    place, fields = f"object {definition.name}", ", ".join(sorted(elements))
    for key in definition.key:
        if key not in elements:
            yield Problem("object.key", "The key names a field that the object does not have.", place=f"{place}, key",
                          expected=f"one of {fields}", found=shown(key))
    parents = {one.name: one for one in definition.parents}
    for one in definition.fields:
        where = f"{place}, fields, {one.name}"
        if one.parent and one.parent not in parents:
            yield Problem("object.parent", "The field is joined from a parent that the object does not have.", place=where,
                          expected="a parent under 'parents:'", choices=tuple(parents), found=shown(one.parent))
        if one.refers_to:
            other = catalogue.get(ObjectDefinition, one.refers_to)
            if other is None or len(other.key) != 1:
                yield Problem("reference.object", "The field refers to an object that is not defined, or whose key is of several fields.",
                              place=f"{where}, refers_to", found=shown(one.refers_to), mend=f"Define the object {one.refers_to}.")
    for parent in definition.parents:
        for name in parent.on:
            if name not in elements or (definition.field(name) is not None and definition.field(name).parent):  # type: ignore[union-attr]
                yield Problem("object.parent", "A parent is found by fields of the object's own table.",
                              place=f"{place}, parents, {parent.name}", expected=f"one of {fields}", found=shown(name))
    for child in definition.children:
        where = f"{place}, children, {child.name}"
        other = catalogue.get(ObjectDefinition, child.object)
        if other is None:
            yield Problem("reference.object", "The children are of an object that is not defined.", place=where, found=shown(child.object))
            continue
        if other.backend != definition.backend:
            yield Problem("object.child", "Children are of the same backend as their parent.", place=where, expected=definition.backend,
                          found=shown(other.backend))
        if other.children:
            names = ", ".join(one.name for one in other.children)
            yield Problem("object.grandchildren", "Children of children are not published.", place=where,
                          expected="an object without children", found=shown(f"{child.object}, which has {names}"),
                          mend=f"Name another object on the table {other.table} that has no children; what belongs to its rows is published"
                               f" by operations of {child.object}.")
        if child.name in elements:
            yield Problem("object.child", "A field has this name already.", place=where, mend="Give the children another name.")
        for theirs, mine in child.match.items():
            if other.field(theirs) is None or mine not in elements:
                yield Problem("object.child", "The children are matched by a field that is not there.", place=f"{where}, match",
                              expected=f"a field of {child.object}, and one of {fields}", found=shown(f"{theirs}: {mine}"))
    for finder in definition.finders:
        yield from _finder_mistakes(definition, finder, elements)


def _finder_mistakes(definition: ObjectDefinition, finder: Finder, elements: Mapping[str, Element]) -> Iterator[Problem]:
    where = f"object {definition.name}, finders, {finder.name}"
    if finder.name in VERBS:
        yield Problem("finder.name", f"A finder cannot be called {finder.name}.", place=where,
                      mend=f"Every object has {', '.join(VERBS)}. Give the finder another name.")
    yield from filter_mistakes(finder.filters, finder.order, elements, where)
    for one in finder.filters:
        target = definition.field(one.field)
        if one.must_exist and (target is None or not target.refers_to or one.compare != "equal"):
            yield Problem("finder.must-exist", "Only a field that refers to an object can be asked for a row that must exist.",
                          place=f"{where}, {one.name}", expected="a field with 'refers_to:', compared as equal", found=shown(one.field))
    if finder.limit.default > finder.limit.most:
        yield Problem("finder.limit", "The default limit is above the greatest limit.", place=where,
                      expected=f"at most {finder.limit.most}", found=str(finder.limit.default))


def get_shape(operation: Operation, source: ResolvedObject, row: Record) -> OperationShape:
    key = key_elements(source)
    output = Record(f"{operation.name}Response", (Element(item_name(source.row), row),))
    description = operation.description or f"Reads one {item_name(source.row)} by its key."
    return OperationShape(operation.name, Record(operation.name, key), output, (not_found(key),), description,
                          rows=item_name(source.row), keys=source.definition.key)


def key_elements(source: ResolvedObject) -> tuple[Element, ...]:
    fields = {element.name: element for element in source.row.elements}
    return tuple(replace(fields[name], least=1) for name in source.definition.key)


def check_shape(operation: Operation, source: ResolvedObject) -> OperationShape:
    """Whether a row exists, and whether it has changed since it was read."""
    name = item_name(source.row)
    token = Element(CHANGE_TOKEN, TOKEN, 0, description="As it was read; left out, only the existence is looked at")
    inputs = (*key_elements(source), token) if source.tokened else key_elements(source)
    outputs = [Element("exists", SimpleType("boolean"), description=f"Whether there is such a {name}")]
    if source.tokened:
        outputs += [
            Element("changed", SimpleType("boolean"), 0, description="Whether it was written since; absent without a token or a row"),
            replace(token, description="As it is now; absent when there is no such row"),
        ]
    description = operation.description or f"Tells whether a {name} exists" + (
        ", and whether it has changed since it was read." if source.tokened else "."
    )
    return OperationShape(
        operation.name, Record(operation.name, inputs), Record(f"{operation.name}Response", tuple(outputs)), (), description
    )


def finder_shape(operation: Operation, source: ResolvedObject, finder: Finder, row: Record) -> OperationShape:
    fields = {element.name: element for element in source.row.elements}
    inputs = [filter_element(one, fields[one.field]) for one in finder.filters]
    most = finder.limit.most
    inputs += page_inputs(finder.limit.default, most)
    output = Record(
        f"{operation.name}Response",
        (
            Element(
                item_name(source.row),
                row,
                0,
                None,
                description=f"In the order of {', '.join(ordering(finder.order, source.definition.key))}",
            ),
            *PAGE_OUTPUTS,
            *((left_out_element(),) if finder.unfit == "left-out" else ()),
        ),
    )
    required = tuple(replace(one, least=1) for one, asked in zip(inputs, finder.filters, strict=False) if asked.must_exist)
    faults = (not_found(required),) if required else ()
    return OperationShape(
        operation.name, Record(operation.name, tuple(inputs)), output, faults, operation.description or finder.description,
        rows=item_name(source.row), keys=source.definition.key,
    )
