"""Whether callers of one contract can live with another: every change, with its rule and a verdict.

Three verdicts. *compatible*: no caller notices. *readers*: compatible for callers that ignore what they do not
know in an answer; a strict reader may refuse it. *breaking*: a request that was right is refused, or an answer
lacks what was promised. Inputs may become more generous and outputs may not become poorer.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from enum import StrEnum

from bricola.core.shapes.model import Element, Group, OperationShape, Order, Record, ServiceShape
from bricola.core.shapes.simple import SimpleType


class Verdict(StrEnum):
    COMPATIBLE = "compatible"
    READERS = "readers"
    BREAKING = "breaking"

    @property
    def words(self) -> str:
        return "compatible for readers" if self is Verdict.READERS else str(self)


@dataclass(frozen=True)
class ContractChange:
    """One change. `rule` is stable; `operation` is empty for what concerns the whole service."""

    verdict: Verdict
    rule: str
    operation: str
    place: str
    message: str
    before: str = ""
    after: str = ""


_OK, _READERS, _BREAKS = Verdict.COMPATIBLE, Verdict.READERS, Verdict.BREAKING
# Each type reads every value of the ones behind it.
_WIDER = {
    "decimal": {"integer", "long", "int", "short", "byte", "nonNegativeInteger", "positiveInteger", "unsignedInt", "unsignedShort"},
    "integer": {"long", "int", "short", "byte", "nonNegativeInteger", "positiveInteger", "unsignedInt", "unsignedShort"},
    "long": {"int", "short", "byte", "unsignedInt", "unsignedShort"}, "int": {"short", "byte", "unsignedShort"},
    "short": {"byte"}, "nonNegativeInteger": {"positiveInteger", "unsignedInt", "unsignedShort"},
    "unsignedInt": {"unsignedShort"}, "double": {"float"}, "string": {"anyURI"},
}


def compare_contracts(old: ServiceShape, new: ServiceShape) -> list[ContractChange]:
    """All changes from one contract to the next, the worst first."""
    changes: list[ContractChange] = []
    if old.namespace != new.namespace:
        changes.append(ContractChange(_BREAKS, "service.namespace", "", "namespace", "The namespace is another one.",
                                      old.namespace, new.namespace))
    if old.style != new.style:
        changes.append(ContractChange(_BREAKS, "service.style", "", "style", "The messages are written in another style.", old.style,
                                      new.style))
    for version in sorted({*old.soap, *new.soap}):
        if version not in new.soap:
            changes.append(ContractChange(_BREAKS, "service.soap", "", "soap", f"SOAP {version} is not spoken any more."))
        elif version not in old.soap:
            changes.append(ContractChange(_OK, "service.soap", "", "soap", f"SOAP {version} is spoken, too."))
    before = {one.name: one for one in old.operations}
    after = {one.name: one for one in new.operations}
    for name, operation in before.items():
        if name in after:
            changes += _Comparison(name).operations(operation, after[name])
        else:
            changes.append(ContractChange(_BREAKS, "operation.removed", name, name, f"{name} is gone."))
    changes += [ContractChange(_OK, "operation.added", name, name, f"{name} is new.") for name in after if name not in before]
    if not old.form.declares_problems and new.form.declares_problems:
        problems = "Every operation declares the fault problems; what goes wrong and is not declared stood undeclared in the detail."
        names = "The port type and the messages of faults have names of their own; generated code changes."
        changes += [ContractChange(_READERS, "form.problems", "", "faults", problems, "undeclared", "declared"),
                    ContractChange(_READERS, "form.names", "", "names", names, new.name, f"{new.name}PortType")]
    if not old.form.blames and new.form.blames and any(one.faults for one in new.operations):
        told = "Declared faults say whose they are: Client or Sender where the request has to change, and status 400 in SOAP 1.2."
        changes.append(ContractChange(_READERS, "form.cause", "", "faults", told, "Server, Receiver", "by their cause"))
    if old.description != new.description:
        changes.append(ContractChange(_OK, "documentation", "", "description", "The service is described in other words."))
    order = list(Verdict)
    return sorted(dict.fromkeys(changes), key=lambda one: -order.index(one.verdict))


def worst(changes: Sequence[ContractChange]) -> Verdict:
    return max((one.verdict for one in changes), key=list(Verdict).index, default=Verdict.COMPATIBLE)


class _Comparison:
    """The changes of one operation."""

    def __init__(self, operation: str) -> None:
        self._operation = operation
        self._seen: set[tuple[str, str, bool]] = set()  # pairs of records that were compared, since they may hold themselves

    def _change(self, verdict: Verdict, rule: str, place: str, message: str, before: object = "", after: object = "") -> ContractChange:
        return ContractChange(verdict, rule, self._operation, place, message, str(before), str(after))

    def operations(self, old: OperationShape, new: OperationShape) -> Iterator[ContractChange]:
        name = self._operation
        yield from self._records(old.input, new.input, f"{name}/input", True)
        yield from self._records(old.output, new.output, f"{name}/output", False)
        before = {one.name: one for one in old.faults}
        after = {one.name: one for one in new.faults}
        for fault, shape in before.items():
            if fault in after:
                yield from self._records(shape.record, after[fault].record, f"{name}/fault {fault}", False)
            else:
                yield self._change(_OK, "fault.removed", f"{name}/fault {fault}", f"The fault {fault} comes no more.")
        for fault in after:
            if fault not in before:
                yield self._change(_READERS, "fault.added", f"{name}/fault {fault}", f"The fault {fault} may come now.")
        if old.description != new.description:
            yield self._change(_OK, "documentation", name, f"{name} is described in other words.")

    def _records(self, old: Record, new: Record, place: str, is_input: bool) -> Iterator[ContractChange]:
        if old.id and new.id:
            if (old.id, new.id, is_input) in self._seen:
                return
            self._seen.add((old.id, new.id, is_input))
            if _grammar(old.content) != _grammar(new.content):
                yield self._change(_BREAKS, f"{'input' if is_input else 'output'}.content", place, "The parts stand in another way.",
                                   _grammar(old.content), _grammar(new.content))
        before = {one.name: one for one in old.slots}
        after = {one.name: one for one in new.slots}
        side = "input" if is_input else "output"
        for name, element in before.items():
            where = f"{place}/{name}"
            if name in after:
                yield from self._elements(element, after[name], where, is_input)
            elif is_input:
                yield self._change(_BREAKS, "input.removed", where, f"{name} is not taken any more; callers that send it are refused.")
            elif element.least:
                yield self._change(_BREAKS, "output.removed", where, f"{name} was always there and is gone.")
            else:
                yield self._change(_READERS, "output.removed-optional", where, f"{name} was optional and comes no more.")
        for name, element in after.items():
            where = f"{place}/{name}"
            if name in before:
                continue
            if not is_input:
                yield self._change(_READERS, "output.added", where, f"{name} is new in the answer.")
            elif element.least:
                yield self._change(_BREAKS, "input.added-required", where, f"{name} is new and required.")
            else:
                yield self._change(_OK, "input.added-optional", where, f"{name} is new and optional.")
        kept_before = [name for name in before if name in after]
        kept_after = [name for name in after if name in before]
        if kept_before != kept_after:
            yield self._change(_BREAKS, f"{side}.order", place, "The elements stand in another order.",
                               ", ".join(kept_before), ", ".join(kept_after))

    def _elements(self, old: Element, new: Element, place: str, is_input: bool) -> Iterator[ContractChange]:
        side = "input" if is_input else "output"
        if old.tag != new.tag:
            yield self._change(_BREAKS, f"{side}.element", place, "The element has another expanded name.", old.tag, new.tag)
        if old.least != new.least:
            stricter = new.least > old.least
            yield self._change(_BREAKS if stricter == is_input else _OK, f"{side}.{'required' if stricter else 'optional'}", place,
                               f"{old.name} is {'required' if stricter else 'optional'} now.", old.occurrence, new.occurrence)
        if is_input and old.nillable != new.nillable:
            verdict, now = (_OK, "is") if new.nillable else (_BREAKS, "is not")
            yield self._change(verdict, "input.nillable", place, f"{old.name} {now} emptied by nil now.")
        if old.most != new.most:
            wider = new.most is None or (old.most is not None and new.most > old.most)
            verdict = (_OK if wider else _BREAKS) if is_input else (
                _OK if not wider else _READERS if old.is_list else _BREAKS)
            yield self._change(verdict, f"{side}.occurs", place, f"{old.name} may stand {'more' if wider else 'less'} often.",
                               old.occurrence, new.occurrence)
        if is_input and old.default != new.default:
            yield self._change(_READERS, "input.default", place, f"What is taken when {old.name} is left out is another value.",
                               old.default, new.default)
        yield from self._types(old.type, new.type, place, is_input)
        if (old.description, old.labels, old.unit) != (new.description, new.labels, new.unit):
            yield self._change(_OK, "documentation", place, f"{old.name} is described in other words.")

    def _types(self, old: SimpleType | Record, new: SimpleType | Record, place: str, is_input: bool) -> Iterator[ContractChange]:
        side = "input" if is_input else "output"
        if isinstance(old, Record) and isinstance(new, Record):
            if old.name != new.name:
                yield self._change(_READERS, "record.name", place, "The record's type has another name; generated code changes.",
                                   old.name, new.name)
            yield from self._records(old, new, place, is_input)
        elif isinstance(old, SimpleType) and isinstance(new, SimpleType):
            if old.base != new.base:
                wider = old.base in _WIDER.get(new.base, ())
                narrower = new.base in _WIDER.get(old.base, ())
                fits = wider if is_input else narrower
                yield self._change(_OK if fits else _BREAKS, f"{side}.type", place, "The type is another one.", old.base, new.base)
            yield from self._facets(old, new, place, is_input)
        else:
            yield self._change(_BREAKS, f"{side}.type", place, "A simple value became a record, or the reverse.",
                               old.name or "a simple value", new.name or "a simple value")

    def _facets(self, old: SimpleType, new: SimpleType, place: str, is_input: bool) -> Iterator[ContractChange]:
        side = "input" if is_input else "output"
        for name in ("length", "min_length", "max_length", "digits", "fraction", "min", "max", "pattern"):
            before, after = getattr(old, name), getattr(new, name)
            if before == after:
                continue
            wider = _is_wider(name, before, after)
            if is_input:
                verdict = _OK if wider else _BREAKS
            else:
                verdict = _OK if wider is False else _READERS
            words = "may have other values" if wider is None else f"may have {'more' if wider else 'fewer'} values"
            yield self._change(verdict, f"{side}.{name.replace('_', '-')}", place, f"It {words} now.",
                               "none" if before is None else before, "none" if after is None else after)
        if old.codes != new.codes:
            gone = [one for one in old.codes if one not in new.codes] if new.codes else []
            added = [one for one in new.codes if one not in old.codes] if old.codes else []
            narrower = bool(gone) or (not old.codes and bool(new.codes))
            wider_codes = bool(added) or (bool(old.codes) and not new.codes)
            verdict = (_BREAKS if narrower else _OK) if is_input else (_READERS if wider_codes else _OK)
            said = [f"gains {', '.join(added)}"] if added else []
            said += [f"loses {', '.join(gone)}"] if gone else []
            said += ["is open now"] if not new.codes else ["is closed now"] if not old.codes else []
            yield self._change(verdict, f"{side}.codes", place, f"The code list {' and '.join(said) or 'has another order'}.",
                               ", ".join(old.codes) or "any", ", ".join(new.codes) or "any")


def _grammar(group: Group | None) -> str:
    """How the parts of a record stand, in the notation that people know from patterns; '' for one after another."""
    if group is None:
        return ""
    joint = {Order.SEQUENCE: ", ", Order.CHOICE: " | ", Order.ALL: " & "}[group.order]
    parts = [_grammar(part) if isinstance(part, Group) else part.name for part in group.parts]
    many = "" if (group.least, group.most) == (1, 1) else f"{{{group.least},{'' if group.most is None else group.most}}}"
    return f"({joint.join(parts)}){many}"


def _is_wider(name: str, before: object, after: object) -> bool | None:
    """Whether a facet lets more values through; None when that cannot be told."""
    if after is None:
        return True
    if before is None:
        return False
    if name in ("pattern", "length"):
        return None
    try:
        low, high = Decimal(str(before)), Decimal(str(after))
    except InvalidOperation:  # dates and times order as text
        return (str(after) > str(before)) if name == "max" else (str(after) < str(before))
    return high > low if name in ("max_length", "digits", "fraction", "max") else high < low
