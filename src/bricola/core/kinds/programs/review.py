"""What the review says of programs. Most of it is found when one is resolved: see `shape`."""

from collections.abc import Iterator

from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity
from bricola.core.kinds.kind import Subject
from bricola.core.kinds.programs.definition import ProgramDefinition
from bricola.core.kinds.programs.room import lets_in
from bricola.core.kinds.programs.shape import Mapped, resolve_program
from bricola.core.problems import ProblemError

_E, _W, _H = Severity.ERROR, Severity.WARNING, Severity.HINT

RULES = Rules(
    Rule("reference.program", Area.SERVICE, _E, "What an operation runs must exist."),
    Rule("program.backend", Area.SERVICE, _E, "A program runs behind a program host, an HTTP service or a folder."),
    Rule("program.copybook", Area.SERVICE, _E, "An area is laid out by a copybook."),
    Rule("program.item", Area.SERVICE, _E, "Inputs and outputs are items of the areas."),
    Rule("program.table", Area.SERVICE, _E, "A list is a table; which occurrence of a table is meant is nobody's to guess."),
    Rule("program.group", Area.SERVICE, _E, "A record is a group, a single value is an item with a PICTURE."),
    Rule("program.fields", Area.SERVICE, _E, "Fields are mapped that the record has."),
    Rule("program.dates", Area.SERVICE, _E, "A date is read by where its day, month and year stand."),
    Rule("program.default", Area.SERVICE, _E, "Only a simple input has a default."),
    Rule("program.fault", Area.SERVICE, _E, "A fault is told by a condition-name, or by an item and its values."),
    Rule("program.fault-field", Area.SERVICE, _E, "A fault tells inputs and outputs."),
    Rule("program.condition", Area.SERVICE, _E, "A condition-name is a level 88 of the copybook."),
    Rule("program.areas", Area.SERVICE, _E, "Over HTTP and in a folder one record goes, and one comes back."),
    Rule("program.silent", Area.SERVICE, _H, "What a program refuses by a code or a text callers take for an answer, without a fault."),
    Rule("program.room", Area.SERVICE, _W, "The contract lets in only what the PICTURE holds; else callers are refused what it promised."),
    Rule("copybook.syntax", Area.SERVICE, _E, "A copybook is read as its compiler reads it."),
    Rule("copybook.picture", Area.SERVICE, _E, "A PICTURE says what an item holds."),
    Rule("copybook.clause", Area.SERVICE, _E, "Clauses are those of a data description entry."),
    Rule("copybook.level", Area.SERVICE, _E, "Level numbers say what is in what."),
    Rule("copybook.record", Area.SERVICE, _E, "An area is one record of its copybook."),
    Rule("copybook.member", Area.SERVICE, _E, "What a copybook copies is handed in with it."),
    Rule("copybook.redefines", Area.SERVICE, _E, "A view lies over an item that it follows."),
    Rule("copybook.occurs", Area.SERVICE, _E, "A table has bounds."),
    Rule("copybook.depending", Area.SERVICE, _E, "An item before the table says how many occurrences there are."),
    Rule("copybook.view", Area.SERVICE, _E, "A view is one of those that the copybook has."),
    Rule("codepage.unknown", Area.SERVICE, _E, "Bytes are letters by a code page."),
)


def findings(subject: Subject) -> Iterator[Finding]:
    for definition in subject.needed.all_of(ProgramDefinition):
        yield from _narrow(definition, subject)
        if not definition.faults:
            yield RULES.finding("program.silent", f"Nothing of {definition.name} is told as a refusal.",
                                f"program {definition.name}, faults", mend="Say by which return code, item or condition-name it refuses.")


def _narrow(definition: ProgramDefinition, subject: Subject) -> Iterator[Finding]:
    """Inputs whose types let in what their items do not hold."""
    try:
        source = resolve_program(definition, subject.catalogue)
    except ProblemError:
        return  # told where it is resolved

    def each(one: Mapped, place: str) -> Iterator[Finding]:
        place = f"{place}, {one.element.name}"
        for field in one.fields:
            yield from each(field, place)
        if not one.fields and not one.means and not one.dates:
            for facet, value, words in lets_in(one.element.type, one.item):
                yield RULES.finding("program.room", f"The type lets in {words}, which {one.item.name} does not hold.", place,
                                    expected=one.item.picture or one.item.kind, mend=f"Add '{facet}: {value}'.")

    for one in source.inputs:
        yield from each(one, f"program {definition.name}, input")
