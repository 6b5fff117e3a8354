"""What the review says of workflows."""

from collections.abc import Iterator

from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity
from bricola.core.kinds.kind import Subject

_E, _W = Severity.ERROR, Severity.WARNING

RULES = Rules(
    Rule("reference.workflow", Area.SERVICE, _E, "What an operation runs must exist."),
    Rule("workflow.circle", Area.SERVICE, _E, "A workflow that calls itself, through whatever stands between, never ends."),
    Rule("workflow.silent", Area.SERVICE, _E, "Every path ends in a reply or a declared fault; a caller on any other waits for nothing."),
    Rule("workflow.unreachable", Area.SERVICE, _E, "A step that no path leads to does nothing, and looks as if it did."),
    Rule("workflow.undeclared", Area.SERVICE, _E, "A fault that leaves the workflow is part of its contract, or is caught."),
    Rule("workflow.unused-fault", Area.SERVICE, _E, "A declared fault that nothing raises is a promise that is never kept."),
    Rule("workflow.unused-input", Area.SERVICE, _E, "An input that nothing takes is a parameter without effect."),
    Rule("workflow.name", Area.SERVICE, _E, "One name is one thing, wherever a step speaks of it."),
    Rule("workflow.unlike", Area.SERVICE, _E, "A name is of one type on all paths."),
    Rule("workflow.shared", Area.SERVICE, _E, "What runs side by side shares nothing that it changes."),
    Rule("workflow.reply", Area.SERVICE, _E, "One of several things that run at once cannot answer for all."),
    Rule("workflow.bound", Area.SERVICE, _E, "A loop has a bound, and something in it that ends it."),
    Rule("workflow.item", Area.SERVICE, _E, "A loop names the item that it is at."),
    Rule("workflow.catch", Area.SERVICE, _E, "A handler is for something that can happen."),
    Rule("workflow.attempt", Area.SERVICE, _E, "An attempt catches something, or does something always."),
    Rule("workflow.call", Area.SERVICE, _E, "A call names something that can be called, and says what that takes."),
    Rule("workflow.tries", Area.SERVICE, _E, "What writes is not tried again by itself, since it might write twice."),
    Rule("workflow.undo", Area.SERVICE, _E, "What undoes a step is an operation."),
    Rule("workflow.fault", Area.SERVICE, _E, "A workflow fails with a fault that it declares."),
    Rule("workflow.session", Area.SERVICE, _E,
         "A session does one thing at a time, and sessions inside each other are taken in one order."),
    Rule("workflow.backend", Area.SERVICE, _E, "A step reaches a backend that is defined, and of the kind that it needs."),
    Rule("workflow.record", Area.SERVICE, _E, "An answer in JSON is read as a record that is defined."),
    Rule("workflow.file", Area.SERVICE, _E, "A file has a folder, a path below it, and a text when it is written."),
    Rule("workflow.default", Area.SERVICE, _E, "Only a simple input has a default."),
    Rule("workflow.contract-says", Area.SERVICE, _E, "Where a contract is followed, it says what goes in and out."),
    Rule("expression.empty", Area.SERVICE, _E, "An expression says what goes to its place."),
    Rule("expression.syntax", Area.SERVICE, _E, "An expression is read as one of Python's, with what is allowed here."),
    Rule("expression.size", Area.SERVICE, _E, "An expression is short enough to be read."),
    Rule("expression.depth", Area.SERVICE, _E, "An expression is not nested deeper than anybody can read."),
    Rule("expression.not-allowed", Area.SERVICE, _E, "Only what cannot do harm is part of the language."),
    Rule("expression.name", Area.SERVICE, _E, "A name is that of something known where it stands."),
    Rule("expression.field", Area.SERVICE, _E, "A record has the fields of its shape, and no others."),
    Rule("expression.function", Area.SERVICE, _E, "A function is one of the language."),
    Rule("expression.argument", Area.SERVICE, _E, "A function takes what its form says."),
    Rule("expression.lambda", Area.SERVICE, _E, "What is done with each item of a list is a lambda of one name."),
    Rule("expression.type", Area.SERVICE, _E, "A value is of the type that its place wants."),
    Rule("expression.compare", Area.SERVICE, _E, "Only values of one type are compared."),
    Rule("expression.absent", Area.SERVICE, _E, "A value that may be absent is asked for before it is used."),
    Rule("expression.code", Area.SERVICE, _E, "A value outside of a code list is a name typed wrongly."),
    Rule("expression.value", Area.SERVICE, _E, "A value that is written out fits its type."),
    Rule("expression.zero", Area.SERVICE, _E, "Nothing is divided by zero."),
    Rule("expression.pattern", Area.SERVICE, _E, "A pattern that cannot be read matches nothing."),
    Rule("expression.xpath", Area.SERVICE, _E, "A path into XML is one that can be read, with its namespaces, before it runs."),
    Rule("workflow.no-job", Area.SERVICE, _E, "Only what answers later makes jobs that are asked for."),
    Rule("expression.constant", Area.SERVICE, _E, "What is made ready at deployment is written out."),
    Rule("expression.record", Area.SERVICE, _E, "The fields of a record have names, each once."),
    Rule("expression.required", Area.SERVICE, _E, "What is required is filled."),
    Rule("map.items", Area.SERVICE, _E, "A list in a map is made of a list, item by item."),
)


def findings(subject: Subject) -> Iterator[Finding]:
    return iter(())
