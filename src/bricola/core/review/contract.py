"""Findings about the contract that callers will read."""

from collections.abc import Iterator

from bricola.core.contracts.says import differences
from bricola.core.definitions.findings import Area, Facts, Finding, Rule, Rules, Severity
from bricola.core.definitions.model import ServiceDefinition
from bricola.core.kinds.resolve import ResolvedService
from bricola.core.problems import shown
from bricola.core.shapes.model import Record

# Words of Java, C#, C++, Python and TypeScript that generators cannot use as a member's name.
_E, _W, _H = Severity.ERROR, Severity.WARNING, Severity.HINT

RULES = Rules(
    Rule("operation.description", Area.SERVICE, _W, "The contract documents each operation with it."),
    Rule("operation.sample", Area.SERVICE, _H, "Samples should work unedited; a made-up value finds nothing."),
    Rule("contract.record", Area.CONTRACT, _E, "One type name can mean one thing only in a contract."),
    Rule("contract.element", Area.CONTRACT, _E, "Global elements share one name space: a fault cannot be called like an operation."),
    Rule("contract.wrapper", Area.CONTRACT, _E, "The answer's element is the operation's name with Response; another operation has it."),
    Rule("contract.case", Area.CONTRACT, _W, "Generated clients on case-insensitive file systems overwrite one by the other."),
    Rule("contract.reserved", Area.CONTRACT, _H, "Generators rename elements that are words of their language."),
    Rule("contract.types", Area.CONTRACT, _H, "Common client stacks have no type that holds every value of these, and round or fail."),
    Rule("contract.differs", Area.CONTRACT, _H, "Callers go by the contract; what differs from it on purpose should be known."),
    Rule("contract.drift", Area.CONTRACT, _W, "The other side has another contract by now than the one that was taken in."),
    Rule("contract.breaking", Area.CONTRACT, _W, "The release will ask for a new major version, or for consent with a reason."),
)
finding = RULES.finding

_RESERVED = frozenset((
    "abstract", "assert", "async", "await", "boolean", "break", "byte", "case", "catch", "char", "class", "const", "continue",
    "default", "def", "del", "delete", "do", "double", "elif", "else", "enum", "except", "export", "extends", "false", "final",
    "finally", "float", "for", "from", "function", "global", "goto", "if", "implements", "import", "in", "int", "interface", "is",
    "lambda", "long", "namespace", "native", "new", "nonlocal", "not", "null", "object", "operator", "or", "out", "override",
    "package", "params", "pass", "private", "protected", "public", "raise", "readonly", "ref", "return", "short", "sizeof", "static",
    "string", "struct", "super", "switch", "this", "throw", "throws", "transient", "true", "try", "typeof", "using", "var",
    "virtual", "void", "volatile", "while", "with", "yield",
))


def _all_records(resolved: ResolvedService) -> Iterator[Record]:
    """Every record below the wrappers, as often as it is used: two of one name may differ."""
    waiting = [record for one in resolved.shape.operations for record in (one.input, one.output, *(two.record for two in one.faults))]
    seen: set[str] = set()
    while waiting:
        inner = [one.type for one in waiting.pop().elements if isinstance(one.type, Record) and one.type.id not in seen]
        seen |= {one.id for one in inner if one.id}
        yield from inner
        waiting += inner


def _differing(service: ServiceDefinition, resolved: ResolvedService) -> Iterator[Finding]:
    if resolved.offer is None:
        return
    for operation in service.operations:
        for one in differences(resolved.offer, operation):
            yield finding("contract.differs", f"{one.setting} differs from the contract.", f"service {service.name}, {operation.name}",
                          expected=shown(one.contract), found=shown(one.used),
                          mend=f"Where that is not meant, take '{one.setting}:' out.")


def _drifted(service: ServiceDefinition, facts: Facts) -> Iterator[Finding]:
    for contract, words in facts.drifted.items():
        yield finding("contract.drift", f"The contract {contract} has changed on the other side.", f"service {service.name}", found=words,
                      mend="Look at it: bricola contracts check ENVIRONMENT. Then take it in again.")


# What several client stacks hold badly, and what to take instead.
_HARD = {**dict.fromkeys(("gYear", "gYearMonth", "gMonth", "gDay", "gMonthDay"), "text with a pattern"), "duration": "a number with a unit",
         **dict.fromkeys(("long", "unsignedLong"), "int, or text where it is a number by name only")}
_UNBOUNDED = {"integer": "int, or digits", "nonNegativeInteger": "int with min 0, or digits",
              "positiveInteger": "int with min 1, or digits", "decimal": "digits and fraction"}


def _hard_types(resolved: ResolvedService, place: str) -> Iterator[Finding]:
    """One finding for each kind of type, with the elements that have it."""
    found: dict[tuple[str, str], dict[str, None]] = {}
    tops = [record for one in resolved.shape.operations for record in (one.input, one.output, *(two.record for two in one.faults))]
    for record in (*tops, *_all_records(resolved)):
        for element in record.elements:
            kind = element.type
            if isinstance(kind, Record):
                continue
            bounded = kind.codes or any(one is not None for one in (kind.digits, kind.fraction, kind.max))
            instead = _HARD.get(kind.base) or ("" if bounded else _UNBOUNDED.get(kind.base, ""))
            if instead:
                found.setdefault((kind.base, instead), {})[element.name] = None
    for (base, instead), names in found.items():
        yield finding("contract.types", f"Some client stacks cannot hold every value of xs:{base}.", place, expected=instead,
                      found=", ".join([*names][:8]) + (" and more" if len(names) > 8 else ""), mend="Narrow the type, or take another.")


def findings(service: ServiceDefinition, resolved: ResolvedService, facts: Facts) -> Iterator[Finding]:
    place = f"service {service.name}"
    yield from _drifted(service, facts)
    yield from _differing(service, resolved)
    if resolved.shape.foreign:
        return  # it is somebody else's, and stays as it is
    seen: dict[str, Record] = {}
    for record in _all_records(resolved):
        other = seen.setdefault(record.name, record)
        if other != record:
            yield finding("contract.record", "Two different records have one name.", place, found=shown(record.name))
    names = [one.name for one in resolved.shape.operations]
    wrappers = {one for operation in resolved.shape.operations for one in (operation.name, operation.output.name)}
    lower: dict[str, str] = {}
    for name in names:
        if f"{name}Response" in names:
            yield finding("contract.wrapper", f"{name}Response is the element of {name}'s answer.", f"{place}, {name}Response",
                          mend="Give one of the two operations another name.")
        other_name = lower.setdefault(name.lower(), name)
        if other_name != name:
            yield finding("contract.case", f"{name} and {other_name} differ in letter case only.", f"{place}, {name}")
    words: set[str] = set()
    for operation in resolved.operations:
        where = f"{place}, {operation.shape.name}"
        for fault in operation.shape.faults:
            if fault.name in wrappers:
                yield finding("contract.element", "A fault and an operation share one name.", where, found=shown(fault.name))
        if not operation.shape.description:
            yield finding("operation.description", "The operation does not say what it does.", where,
                          mend="Add 'description:' to it or to its finder.")
        for element in (*operation.shape.input.elements, *(two for one in operation.shape.input.elements
                                                           if isinstance(one.type, Record) for two in one.type.elements)):
            if element.least and element.sample is None and not isinstance(element.type, Record) and not element.echoed:
                yield finding("operation.sample", f"{element.name} has no sample, so the sample request may find nothing.", where,
                              mend=f"Add 'sample:' to the field {element.name}.")
        for record in (operation.shape.input, operation.shape.output, *seen.values()):
            words |= {one.name for one in record.elements if one.name in _RESERVED}
    yield from _hard_types(resolved, place)
    if words:
        yield finding("contract.reserved", "Some element names are words of programming languages.", place,
                      found=", ".join(sorted(words)), mend="Other names save callers a renaming.")
    if facts.breaking:
        yield finding("contract.breaking", "The draft breaks callers of the newest release.", place, expected="a compatible contract",
                      found="; ".join(facts.breaking[:3]) + (f"; and {len(facts.breaking) - 3} more" if len(facts.breaking) > 3 else ""),
                      mend=f"Set 'version: {service.version + 1}' for an address and namespace of its own, or release with consent.",
                      command=f"bricola release {service.name} --consent REASON")
