"""What can be mended of a suite by itself when the contract of its service has changed: names that have a near one, inputs that are new or
gone. Values that are expected are never changed: whether they are right is not known here."""

from collections.abc import Mapping
from typing import Any

from bricola.core.definitions.suites import SuiteDefinition
from bricola.core.messages.samples import sample_values
from bricola.core.nearness import nearest
from bricola.core.problems import ProblemError
from bricola.core.shapes.model import TYPE, OperationShape, Record, ServiceShape
from bricola.core.testing.paths import Step, find_target, read_path


def mend_suite(suite: SuiteDefinition, shape: ServiceShape) -> tuple[SuiteDefinition, list[tuple[str, str]]]:
    """The suite with what was mended: where, and what."""
    told: list[tuple[str, str]] = []
    parts = {section: tuple(_mended(one, shape, f"{section}, {one.name}", told) for one in getattr(suite, section))
             for section in ("cases", "steps")}
    return (suite.model_copy(update=parts), told) if told else (suite, told)


def _mended(case: Any, shape: ServiceShape, place: str, told: list[tuple[str, str]]) -> Any:
    changes: dict[str, Any] = {}
    operation = shape.operation(case.operation)
    if operation is None:
        near = nearest(case.operation, [one.name for one in shape.operations])
        if not near:
            return case
        told.append((place, f"the operation {case.operation} is {near} now"))
        changes["operation"] = near
        operation = shape.operation(near)
        assert operation is not None
    if not case.envelope:
        values = _inputs(operation.input, case.values, place, told, bool(case.expects.problem))
        if values != case.values:
            changes["values"] = values
    expects = _expects(operation, case.expects, place, told)
    if expects is not case.expects:
        changes["expects"] = expects
    return case.model_copy(update=changes) if changes else case


def _inputs(record: Record, values: Mapping[str, Any], place: str, told: list[tuple[str, str]], only_names: bool) -> dict[str, Any]:
    """Inputs by their new names; without those that are gone, and with samples for those that are new and required, but for a case that
    expects a refusal."""
    slots = {one.name: one for one in record.slots}
    made: dict[str, Any] = {}
    for name, value in values.items():
        if name not in slots and name != TYPE:
            near = nearest(name, [one for one in slots if one not in values])
            told.append((place, f"the input {name} is {near} now" if near else f"the input {name} is gone"))
            if not near and only_names:
                told.pop()
            elif not near:
                continue
            name = near or name
        inner = slots[name].type if name in slots else None
        if isinstance(inner, Record) and isinstance(value, Mapping):
            value = _inputs(inner, value, f"{place}, {name}", told, only_names)
        made[name] = value
    for one in record.slots:
        if one.least and one.name not in made and one.default is None and not only_names:
            made[one.name] = sample_values(Record(record.name, (one,))).get(one.name)
            told.append((place, f"the input {one.name} is required now, and a sample was put there"))
    return made


def _expects(operation: OperationShape, expects: Any, place: str, told: list[tuple[str, str]]) -> Any:
    record: Record | None = operation.output
    if expects.fault:
        record = next((one.record for one in operation.faults if one.name == expects.fault), None)
    if record is None:
        near = nearest(expects.fault, [one.name for one in operation.faults])
        if not near:
            return expects
        told.append((place, f"the fault {expects.fault} is {near} now"))
        return expects.model_copy(update={"fault": near})
    values = {}
    for path, comparison in expects.values.items():
        found = path if _is_there(record, path) else _near_path(record, path)
        if found != path:
            told.append((place, f"{path} is {found} now" if found else f"{path} is gone, and what was expected of it"))
        if found:
            values[found] = comparison
    return expects if list(values) == list(expects.values) else expects.model_copy(update={"values": values})


def _is_there(record: Record, path: str) -> bool:
    try:
        find_target(record, path, "")
    except ProblemError:
        return False
    return True


def _near_path(record: Record, path: str) -> str:
    """The path with each name that is not there replaced by a near one; '' where there is none."""
    here: Record | None = record
    made: list[Step] = []
    for step in read_path(path, ""):
        slots = {one.name: one for one in here.slots} if here is not None else {}
        name = step.name if step.name in slots else nearest(step.name, list(slots))
        if not name:
            return ""
        kind = slots[name].type
        made.append(Step(name, step.item if slots[name].is_list else None))
        here = kind if isinstance(kind, Record) else None
    return ".".join(one.name + (f"[{one.item}]" if one.item is not None else "") for one in made)
