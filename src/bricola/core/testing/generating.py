"""Tests made from a contract alone: right requests of every form, and wrong ones of every kind, each with the class of answer that the
contract promises.

| class | the promise |
| --- | --- |
| answered | an answer of the contract, or a fault that it declares; never another problem |
| refused | a problem that blames the sender and names the element |
| identity | 401, before anything is read |
| role | 403, with the operation named |

What writes runs as a trial. A request is called wrong where the types of the contract refuse it; in parts of somebody's contract that are
more than sequences (alternatives, open parts) only their values are made wrong, since another order may be right there.
"""

import copy
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from enum import StrEnum
from random import Random
from typing import Any

from lxml import etree

from bricola.core.definitions.suites import Case, Expected, SuiteDefinition
from bricola.core.messages.envelope import Soap
from bricola.core.messages.request import write_request
from bricola.core.messages.samples import sample_values
from bricola.core.problems import Problem
from bricola.core.shapes.model import TYPE, Element, Group, OperationShape, Order, Record, ServiceShape, type_names
from bricola.core.shapes.simple import SimpleType
from bricola.core.testing.facets import random_text, right_texts, wrong_texts
from bricola.core.testing.places import literal
from bricola.core.testing.replies import Seen
from bricola.core.xml import parse_xml

_DEEPEST = 6  # records inside records
_MOST_ITEMS = 200  # of a list that is filled up


class Class(StrEnum):
    ANSWERED = "answered"
    REFUSED = "refused"
    IDENTITY = "identity"
    ROLE = "role"


@dataclass(frozen=True)
class Generated:
    """One test: what is done to which element, by which rule, and the class of answer that is promised."""

    case: Case
    element: str
    rule: str
    promised: Class


@dataclass(frozen=True)
class GeneratedSuite:
    """The tests of a service as a suite, with what each of them is by its name."""

    suite: SuiteDefinition
    by_name: Mapping[str, Generated]
    foreign: bool = False

    def verdict(self, case: Case, operation: OperationShape, seen: Seen) -> list[Problem]:
        return judge(self.by_name[case.name], operation, seen, self.foreign)


def generate(shape: ServiceShape, seed: int = 0, random: int = 0, only: Callable[[str], bool] = lambda name: True,
             anonymous: bool = False) -> GeneratedSuite:
    """All tests of a service. `random` is how many further right requests are drawn for each operation, the same for the same `seed`. A
    service that is open to `anonymous` callers does not refuse one without identity."""
    by_name: dict[str, Generated] = {}
    for operation in shape.operations:
        if not only(operation.name):
            continue
        maker = _Maker(shape, operation)
        found = [*maker.right(), *maker.drawn(Random(f"{seed} {operation.name}"), random), *maker.wrong(),
                 *maker.refused(anonymous), *maker.other_faces()]
        for number, one in enumerate(found, 1):
            name = f"{operation.name}-{number:03}"
            by_name[name] = Generated(one.case.model_copy(update={"name": name}), one.element, one.rule, one.promised)
    suite = generated_suite(shape).model_copy(update={"cases": tuple(one.case for one in by_name.values())})
    return GeneratedSuite(suite, by_name, shape.foreign)


def generated_suite(shape: ServiceShape) -> SuiteDefinition:
    """The suite of a service's generated tests, without them."""
    return SuiteDefinition(name=f"{shape.name}-generated", service=shape.name)


class _Maker:
    """Makes the tests of one operation."""

    def __init__(self, shape: ServiceShape, operation: OperationShape) -> None:
        self._shape, self._operation = shape, operation
        self._soap = next((one for one in Soap if one.number in shape.soap), None)
        self._base = _without_echoes(operation.input, sample_values(operation.input, everything=True))
        self._full = _without_echoes(operation.input, sample_values(operation.input, full=True))

    def _case(self, element: str, rule: str, promised: Class, values: Mapping[str, Any] | None = None, envelope: str = "",
              **more: Any) -> Generated:
        expects = Expected() if promised is Class.ANSWERED else Expected(problem="any")
        case = Case(name="generated", operation=self._operation.name, values=literal(dict(values)) if values is not None else {},
                    envelope=literal(envelope), description=f"{element or 'the whole request'}: {rule}", expects=expects, **more)
        return Generated(case, element, rule, promised)

    # right requests

    def right(self) -> Iterator[Generated]:
        yield self._case("", "least", Class.ANSWERED, sample_values(self._operation.input))
        yield self._case("", "with samples", Class.ANSWERED, self._base)
        if self._full != self._base:
            yield self._case("", "full", Class.ANSWERED, self._full)
        for path, values in _alternatives(self._operation.input, self._full, ""):
            yield self._case(path, "alternative", Class.ANSWERED, values)
        for path, element in _elements(self._operation.input):
            if element.echoed or element.fixed is not None:
                continue
            if isinstance(element.type, SimpleType) and not element.is_list:
                for rule, text in right_texts(element.type):
                    yield self._case(path, rule, Class.ANSWERED, self._with(path, text))
            if element.is_list and element.most is not None and element.most <= _MOST_ITEMS:
                one = _item_at(self._full, path)
                if one is not None:
                    yield self._case(path, "as many as may be", Class.ANSWERED, self._with(path, [one] * element.most))

    def _with(self, path: str, value: Any) -> dict[str, Any]:
        """The request with samples, and this value at a path; what is around it is there in full."""
        return _placed(self._base, self._full, path.split("."), value)

    def drawn(self, random: Random, count: int) -> Iterator[Generated]:
        for number in range(count):
            drawn = _without_echoes(self._operation.input, _drawn(self._operation.input, random, 0))
            yield self._case("", f"drawn {number + 1}", Class.ANSWERED, drawn)

    # wrong ones

    def wrong(self) -> Iterator[Generated]:
        for path, element in _elements(self._operation.input):
            if element.fixed is not None:
                continue
            if element.least and self._in_sequence(path):
                yield self._case(path, "missing", Class.REFUSED, _removed(self._full, path.split(".")))
            if isinstance(element.type, SimpleType):
                for rule, text in wrong_texts(element.type):
                    if not text and element.when_empty is not None:
                        continue  # the default of the contract stands for it then
                    yield self._case(path, rule, Class.REFUSED, self._with(path, [text] if element.is_list else text))
            if element.is_list and element.most is not None and element.most <= _MOST_ITEMS and self._in_sequence(path):
                one = _item_at(self._full, path)
                if one is not None:
                    yield self._case(path, "too many", Class.REFUSED, self._with(path, [one] * (element.most + 1)))
        if self._soap is not None:
            yield from self._structures()

    def _in_sequence(self, path: str) -> bool:
        """Whether all that is around an element is a plain sequence."""
        record: Record | None = self._operation.input
        for name in path.split("."):
            if record is None or not record.is_plain:
                return False
            found = next((one for one in record.elements if one.name == name), None)
            record = found.type if found is not None and isinstance(found.type, Record) else None
        return True

    def _structures(self) -> Iterator[Generated]:
        """Messages whose elements stand where, as often, or in a namespace in which they may not."""
        assert self._soap is not None
        root = parse_xml(write_request(self._soap, self._shape.namespace, self._operation, self._full))
        for path, element in _elements(self._operation.input):
            if not self._in_sequence(path):
                continue
            if not element.is_list:
                yield from self._changed(root, path, "doubled", lambda node: node.addnext(copy.deepcopy(node)))
            yield from self._changed(root, path, "wrong namespace", _other_namespace)
            if element.least and not element.nillable and not element.is_list:  # of an optional one it counts as absent
                yield from self._changed(root, path, "nil", _nil)
            if isinstance(element.type, Record) and element.type.is_plain:
                yield from self._changed(root, path, "unknown inside", _unknown_inside)
                if any(one.least for one in element.type.elements):
                    yield from self._changed(root, path, "nested empty", _emptied)
        if self._operation.input.is_plain and self._operation.input.tag != "":
            yield from self._changed(root, "", "unknown", _unknown_inside)
            if len(self._operation.input.elements) > 1:
                yield from self._changed(root, "", "wrong order", _turned)

    def _changed(self, root: etree._Element, path: str, rule: str, change: Callable[[etree._Element], None]) -> Iterator[Generated]:
        root = copy.deepcopy(root)
        assert self._soap is not None
        node = root.find(f"{self._soap.tag_body}/*")
        if self._operation.calls and node is not None:
            node = node[0]
        for name in path.split(".") if path else ():
            node = next((one for one in node if etree.QName(one).localname == name), None) if node is not None else None
        if node is not None:
            change(node)
            yield self._case(path, rule, Class.REFUSED, envelope=etree.tostring(root, encoding="unicode"))

    # identities and faces

    def refused(self, anonymous: bool) -> Iterator[Generated]:
        if not anonymous:
            yield self._case("", "no identity", Class.IDENTITY, self._base, identity="none")
        yield self._case("", "wrong token", Class.IDENTITY, self._base, identity="wrong-token")
        yield self._case("", "expired token", Class.IDENTITY, self._base, identity="expired-token")
        yield self._case("", "wrong role", Class.ROLE, self._base, identity="no-role")

    def other_faces(self) -> Iterator[Generated]:
        faces = [f"soap {one}" for one in self._shape.soap[1:]] + ([] if not self._soap else ["rest"])
        for face in faces:
            yield self._case("", f"with samples ({face})", Class.ANSWERED, self._base, face=face)
            for path, element in _elements(self._operation.input):
                texts = wrong_texts(element.type) if isinstance(element.type, SimpleType) else []
                if texts and element.fixed is None:
                    rule, text = texts[0]
                    yield self._case(path, f"{rule} ({face})", Class.REFUSED, self._with(path, [text] if element.is_list else text),
                                     face=face)
                    break


def judge(test: Generated, operation: OperationShape, seen: Seen, foreign: bool = False) -> list[Problem]:
    """Whether the answer is of the class that is promised; nothing when it is. A `foreign` contract may tell what is wrong with a request
    by a fault of its own."""
    against = [Problem(one.code, f"The answer is not what the contract promises: {one.message}", place=one.place, expected=one.expected,
                       found=one.found) for one in seen.against]
    if against:
        return against
    fault, first = seen.fault, seen.fault.problems[0] if seen.fault is not None and seen.fault.problems else None
    if test.promised is Class.ANSWERED:
        if fault is None or fault.name or (first is not None and _may_fail(operation, first)):
            return []
        return [_differs(test, "an answer, or a fault that the contract declares", fault.summary, first)]
    if test.promised in (Class.IDENTITY, Class.ROLE):
        status, code = (401, "caller.") if test.promised is Class.IDENTITY else (403, "caller.role")
        if seen.status == status and first is not None and first.code.startswith(code):
            return []
        return [_differs(test, f"status {status} and the problem {code.rstrip('.')}", f"status {seen.status}, {seen.summary}", first)]
    if fault is None:
        return [_differs(test, "a refusal that names the element", seen.summary, None)]
    if fault.name and foreign:
        return []
    if fault.name:
        return [_differs(test, "a refusal before anything runs", fault.summary, None)]
    if first is None or seen.status not in (400, 500) or first.code.startswith(("internal", "answer.")):
        return [_differs(test, "a refusal that blames the request", fault.summary, first)]
    names = [test.element.rpartition(".")[2], test.element.partition(".")[0]]
    if test.element and not any(one.place.rpartition("/")[2].startswith(names[0]) or names[0] in one.place for one in fault.problems):
        return [_differs(test, f"a refusal that names {test.element}", fault.summary, first)]
    return []


def _may_fail(operation: OperationShape, problem: Problem) -> bool:
    """A right request may name something that only an earlier answer can have given; and of a trial of a job is told how the job would end,
    which the contract of its acceptance does not speak of."""
    return problem.code == "job.trial" or (problem.code.endswith(".unknown") and any(one.echoed for one in operation.input.elements))


def _differs(test: Generated, expected: str, found: str, first: Problem | None) -> Problem:
    return Problem("test.promise", f"{test.element or 'The whole request'}, {test.rule}: the contract promises something else.",
                   place=test.element or test.case.operation, expected=expected, found=found, mend=first.mend if first is not None else "")


# values by path


def _elements(record: Record, before: str = "", depth: int = 0, around: tuple[str, ...] = ()) -> Iterator[tuple[str, Element]]:
    """Every element of a message with its path; not its attributes, and not what is open."""
    for one in record.elements:
        path = f"{before}.{one.name}" if before else one.name
        yield path, one
        if isinstance(one.type, Record) and depth < _DEEPEST and one.type.id not in around and not one.type.abstract:
            yield from _elements(one.type, path, depth + 1, (*around, one.type.id) if one.type.id else around)


def _without_echoes(record: Record, values: dict[str, Any]) -> dict[str, Any]:
    """Without optional values that only an earlier answer can have given, and without lists of names of fields that are there themselves:
    such a list empties them."""
    kept = {}
    known = {one.name: one for one in record.slots}
    for name, value in values.items():
        element = known.get(name)
        if element is not None and not element.least and (element.echoed or _names_siblings(element, values)):
            continue
        if element is not None and isinstance(element.type, Record) and isinstance(value, dict):
            value = _without_echoes(element.type, value)
        kept[name] = value
    return kept


def _names_siblings(element: Element, values: Mapping[str, Any]) -> bool:
    codes = element.type.codes if isinstance(element.type, SimpleType) else ()
    return element.is_list and bool(codes) and all(one in values for one in codes)


def _placed(base: Any, full: Any, path: list[str], value: Any) -> dict[str, Any]:
    """`base` with a value at a path; records on the way that are not there are taken from `full`."""
    name, rest = path[0], path[1:]
    made = dict(base) if isinstance(base, Mapping) else dict(full) if isinstance(full, Mapping) else {}
    if not rest:
        made[name] = value
        return made
    mine, theirs = made.get(name), full.get(name) if isinstance(full, Mapping) else None
    is_list = isinstance(theirs if mine is None else mine, list)
    first = (mine[0] if mine else None) if isinstance(mine, list) else mine
    other = (theirs[0] if theirs else None) if isinstance(theirs, list) else theirs
    inner = _placed(first if first is not None else other, other, rest, value)
    made[name] = [inner, *(mine[1:] if isinstance(mine, list) else ())] if is_list else inner
    return made


def _removed(values: Any, path: list[str]) -> dict[str, Any]:
    made = dict(values)
    name, rest = path[0], path[1:]
    if not rest or made.get(name) is None:
        made.pop(name, None)
        return made
    inner = made[name]
    made[name] = [_removed(inner[0], rest), *inner[1:]] if isinstance(inner, list) else _removed(inner, rest)
    return made


def _item_at(values: Any, path: str) -> Any:
    """One item of the list at a path."""
    for name in path.split("."):
        values = values[0] if isinstance(values, list) and values else values
        values = values.get(name) if isinstance(values, Mapping) else None
    return values[0] if isinstance(values, list) and values else None


def _alternatives(record: Record, full: Mapping[str, Any], before: str) -> Iterator[tuple[str, dict[str, Any]]]:
    """The full request with each derived type in the place of its base, and each alternative of the outermost choice."""
    for element in record.elements:
        if isinstance(element.type, Record) and element.type.derived and not before:
            for name, one in type_names(element.type).items():
                if not one.abstract:
                    inner = {TYPE: name, **sample_values(one)}
                    yield f"{element.name}, {name}", {**full, element.name: [inner] if element.is_list else inner}
    group = record.content
    if group is not None and group.order is Order.CHOICE and not group.name:
        for part in group.parts:
            if isinstance(part, Element):
                only = Record(record.name, (part,), content=Group(Order.SEQUENCE, (part,)))
                others = {name: value for name, value in full.items() if name not in group.names}
                yield part.name, {**others, **sample_values(only, full=True)}


def _drawn(record: Record, random: Random, depth: int) -> dict[str, Any]:
    """Some values that the record takes."""
    if not record.is_plain:
        return sample_values(record, full=bool(random.randrange(2)))
    values: dict[str, Any] = {}
    for element in record.elements:
        if (not element.least and (element.echoed or not random.randrange(2))) or (depth > _DEEPEST and not element.least):
            continue
        if element.echoed or element.key_of or element.fixed is not None:
            values |= sample_values(Record(record.name, (element,)), full=True)
            continue

        def one(element: Element = element) -> Any:
            return _drawn(element.type, random, depth + 1) if isinstance(element.type, Record) else random_text(element.type, random)

        if element.is_list:
            most = min(element.most if element.most is not None else 5, 5)
            values[element.name] = [one() for _ in range(random.randint(element.least, max(element.least, most)))]
        else:
            values[element.name] = one()
    return values


# changes of a message


def _other_namespace(node: etree._Element) -> None:
    node.tag = f"{{urn:another:namespace}}{etree.QName(node).localname}"


def _nil(node: etree._Element) -> None:
    for child in list(node):
        node.remove(child)
    node.text = None
    node.set("{http://www.w3.org/2001/XMLSchema-instance}nil", "true")


def _unknown_inside(node: etree._Element) -> None:
    namespace = etree.QName(node).namespace
    etree.SubElement(node, f"{{{namespace}}}unheardOf" if namespace else "unheardOf").text = "1"


def _emptied(node: etree._Element) -> None:
    for child in list(node):
        node.remove(child)
    node.text = None


def _turned(node: etree._Element) -> None:
    node.append(node[0])


