"""What a finding is, the table of all rules with their reasons, and the facts that a review is given."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from bricola.core.definitions.model import Definition
from bricola.core.problems import Problem


class Severity(StrEnum):
    ERROR = "error"
    WARNING = "warning"
    HINT = "hint"


@dataclass(frozen=True)
class Finding:
    """One line of the review. `mended` is the definition with the mend in it, where the mend is mechanical;
    `command` is what does or begins the mend on the command line, where there is such a command."""

    severity: Severity
    problem: Problem
    mended: Definition | None = None
    command: str = ""


@dataclass(frozen=True)
class Rule:
    """One rule: what it looks at (service, contract, environment, security, capacity), and why it exists."""

    code: str
    area: str
    severity: Severity
    reason: str
    mechanical: bool = False


@dataclass(frozen=True)
class CredentialFact:
    """What the review may know of a credential: never the secret. Moments are seconds since 1970."""

    kind: str
    expires: float | None = None


@dataclass(frozen=True)
class PoolFact:
    """What was measured of a running pool."""

    advised_size: int | None = None
    backend_limit: int | None = None


@dataclass(frozen=True)
class Facts:
    """What a review knows beyond the definitions. None: not known here, and then nothing is said about it."""

    now: float = 0.0
    engines: frozenset[str] | None = None
    credentials: Mapping[str, CredentialFact] | None = None
    held_roles: frozenset[str] | None = None
    moved: Mapping[str, str] = field(default_factory=dict)  # screen flow -> what its last check found on the host of the environment
    missing_files: Mapping[str, str] = field(default_factory=dict)  # backend -> the file that is not there
    empty_fields: frozenset[tuple[str, str]] = frozenset()  # (object, field) that had no value in any row that was looked at
    rows_looked_at: int = 0
    pools: Mapping[str, PoolFact] = field(default_factory=dict)  # backend -> what was measured in this environment
    breaking: tuple[str, ...] = ()  # breaking changes against the newest release of the same version, in words
    passed: bool | None = None  # whether the release was in the environment that this one follows


_E, _W, _H = Severity.ERROR, Severity.WARNING, Severity.HINT

RULES: dict[str, Rule] = {one.code: one for one in (
    Rule("service.empty", "service", _E, "A service without operations has no contract that a client could load."),
    Rule("service.description", "service", _W, "Callers choose by the description; it stands first in the contract."),
    Rule("service.owner", "service", _H, "Somebody must be askable when a call fails."),
    Rule("service.namespace", "service", _H, "A namespace that follows the name changes with it, and that breaks every caller."),
    Rule("service.namespace-form", "service", _E, "XML Schema wants a URI; many client stacks refuse spaces in it."),
    Rule("access.operation", "service", _E, "A grant for an operation that is not there is a typing error or a leftover.", True),
    Rule("access.nobody", "service", _W, "No role named means nobody, and the first caller would find out."),
    Rule("access.unheld-role", "service", _W, "A role that no caller has lets nobody in."),
    Rule("reference.object", "service", _E, "What an operation runs must exist."),
    Rule("reference.verb", "service", _E, "An object offers its verbs and its finders, a query its rows and its details."),
    Rule("reference.type", "service", _E, "Every field needs a type that is built in or defined."),
    Rule("reference.backend", "service", _E, "An object without its backend cannot read a row."),
    Rule("reference.circle", "service", _E, "A record that contains itself describes a message without end."),
    Rule("object.key", "service", _E, "Rows are read by the key, so its fields must be fields of the object."),
    Rule("object.column", "service", _W, "Two fields that read one column show the same value under two names."),
    Rule("object.change-token", "service", _H, "Without a change token a caller cannot tell that a row has changed."),
    Rule("object.parent", "service", _E, "A joined field needs the parent that it is joined from, found by fields of the object itself."),
    Rule("object.child", "service", _E, "Children are rows of another object of the same backend, matched field by field."),
    Rule("object.sensitive", "service", _H, "What is marked once is masked in tests, traces and comparisons.", True),
    Rule("object.never-filled", "service", _H, "A field that is listed and never has a value misleads callers."),
    Rule("finder.name", "service", _E, "The names of the verbs, like get and create, always mean the same."),
    Rule("finder.field", "service", _E, "A finder compares and orders by fields of its object."),
    Rule("finder.filter-name", "service", _E, "`limit` and `after` are inputs that every finder has."),
    Rule("finder.limit", "service", _E, "The default page cannot be larger than the largest."),
    Rule("finder.compare", "service", _E, "A part of a number or of a date is no comparison that databases agree on."),
    Rule("finder.must-exist", "service", _E, "Only the key of an object can be looked for."),
    Rule("finder.unfiltered", "service", _H, "Without a filter every caller walks through all rows."),
    Rule("finder.large-page", "service", _W, "A page of more than 1,000 rows holds memory and sessions for long."),
    Rule("finder.unused", "service", _H, "A finder that no operation runs was meant to be published, or can go."),
    Rule("reference.query", "service", _E, "What an operation runs must exist."),
    Rule("query.sql", "service", _E, "A query is one SELECT that takes values by name; order and limit stand in the definition."),
    Rule("query.prompt", "service", _E, "Each :name of the SELECT is a prompt with a simple type."),
    Rule("query.unused-prompt", "service", _E, "A prompt that the SELECT never takes is an input without effect."),
    Rule("query.binds", "service", _E, "Only a date has a next day."),
    Rule("query.filter", "service", _E, "A prompt and a filter of one name would be one input with two meanings."),
    Rule("query.column", "service", _E, "Keys, groups, orders and measures are columns of the query."),
    Rule("query.measure", "service", _E, "A measure is worked out over the rows of a group."),
    Rule("query.total", "service", _E, "Only numbers of the rows can be summed."),
    Rule("query.unused-column", "service", _H, "A column that nothing shows or compares is read for nothing."),
    Rule("reference.screen-flow", "service", _E, "What an operation runs must exist."),
    Rule("flow.backend", "service", _E, "A screen flow walks through the screens of a terminal host."),
    Rule("flow.code-page", "service", _E, "A code page that is not known shows and types nothing."),
    Rule("flow.screen", "service", _E, "Moves are made on screens that the flow or its host knows."),
    Rule("flow.mark", "service", _E, "A screen is known by something that stands on it."),
    Rule("flow.start", "service", _E, "A flow begins on the start screen, where every session waits."),
    Rule("flow.expect", "service", _E, "After a key something is waited for; without one nothing comes."),
    Rule("flow.go", "service", _E, "A branch goes on at a move that there is."),
    Rule("flow.message", "service", _E, "A message is looked for where the screen has a place for messages."),
    Rule("flow.place", "service", _E, "Moves fill and read places that their screen has."),
    Rule("flow.input", "service", _E, "What is typed is a single simple input."),
    Rule("flow.fill", "service", _E, "Two sources for one field would leave it to chance which is typed."),
    Rule("flow.secret", "service", _E, "Secrets belong to the backend's sign-on; in a flow everybody could read them."),
    Rule("flow.output", "service", _E, "What is read goes into an output of its kind."),
    Rule("flow.unread", "service", _E, "A required output that nothing fills makes every answer invalid."),
    Rule("flow.unused-input", "service", _E, "An input that nothing takes changes nothing."),
    Rule("flow.fault", "service", _E, "A branch ends with a fault that the flow declares."),
    Rule("flow.unused-fault", "service", _E, "A declared fault that nothing raises promises what never comes."),
    Rule("flow.fault-field", "service", _E, "A fault tells which input it is about."),
    Rule("flow.default", "service", _E, "Only a simple input has a default."),
    Rule("flow.dates", "service", _E, "A date is read by where its day, month and year stand."),
    Rule("flow.list", "service", _E, "A list is collected from a screen that has it."),
    Rule("flow.region", "service", _E, "The rows of a list fill its region without a rest."),
    Rule("flow.column", "service", _E, "The columns of a list are the fields of its record, each once."),
    Rule("flow.endless", "service", _E, "A list over pages needs a sign of its end, or it pages for ever."),
    Rule("flow.position", "service", _E, "A list that is positioned types a column of its last row into a place."),
    Rule("flow.most", "service", _E, "The most rows are a number, so that no list is read without bound."),
    Rule("type.base", "service", _E, "A type narrows one of the built-in types."),
    Rule("type.facet", "service", _E, "XML Schema gives each type its own facets."),
    Rule("type.pattern", "service", _E, "A pattern that cannot be read checks nothing."),
    Rule("type.value", "service", _E, "Bounds and codes must be values of the type."),
    Rule("type.bounds", "service", _E, "Bounds that exclude each other refuse every value."),
    Rule("parameter.unknown", "service", _E, "A setting for an input that does not exist has no effect.", True),
    Rule("parameter.value", "service", _E, "Fixed, default and context inputs need a value."),
    Rule("parameter.fit", "service", _E, "A fixed, default or sample value must fit its type; the code is the type's, like value.pattern."),
    Rule("parameter.context-type", "service", _E, "The caller's name and the call's id are text, now is a moment."),
    Rule("operation.takes", "service", _E, "An operation takes inputs that there are, and cannot do without its key."),
    Rule("operation.gives", "service", _E, "An operation gives fields of its rows; what a write answers is fixed."),
    Rule("operation.required", "service", _E, "A row without a required value is refused by the table, at the first call.", True),
    Rule("operation.description", "service", _W, "The contract documents each operation with it."),
    Rule("operation.sample", "service", _H, "Samples should work unedited; a made-up value finds nothing."),
    Rule("operation.twin", "service", _H, "Two operations that do the same make callers wonder which one to use."),
    Rule("operation.name", "service", _H, "One style of names: an upper-case letter first, no underscores."),
    Rule("contract.record", "contract", _E, "One type name can mean one thing only in a contract."),
    Rule("contract.element", "contract", _E, "Global elements share one name space: a fault cannot be called like an operation."),
    Rule("contract.wrapper", "contract", _E, "The answer's element is the operation's name with Response; another operation has it."),
    Rule("contract.case", "contract", _W, "Generated clients on case-insensitive file systems overwrite one by the other."),
    Rule("contract.reserved", "contract", _H, "Generators rename elements that are words of their language."),
    Rule("contract.breaking", "contract", _W, "The release will ask for a new major version, or for consent with a reason."),
    Rule("binding.missing", "environment", _E, "A backend without a place cannot be reached."),
    Rule("binding.kind", "environment", _E, "A file has no address and a server is no file."),
    Rule("binding.file-missing", "environment", _E, "A database file is never created by serving it."),
    Rule("binding.own-store", "environment", _E, "Bricola's own store holds people and secrets."),
    Rule("binding.address", "environment", _E, "An address is a host and a port."),
    Rule("binding.database", "environment", _W, "Without a name, the server opens the database called like the user."),
    Rule("binding.twice", "environment", _W, "Two endpoints at one address fail together."),
    Rule("binding.read-only", "environment", _E, "An operation that writes cannot run where nothing may be written.", True),
    Rule("binding.devices", "environment", _W, "A session without an LU or device name of its own cannot be opened.", True),
    Rule("binding.film", "environment", _W, "A film answers what was recorded once; callers of a protected environment expect the host."),
    Rule("flow.moved", "environment", _W, "A screen that is not as it was filmed stops the first call that meets it."),
    Rule("binding.requests", "environment", _H, "After a crash only a mark in the backend itself tells whether a repeated write was done."),
    Rule("context.unused", "environment", _H, "A context value that no operation takes has no effect."),
    Rule("backend.engine", "environment", _E, "This installation has no adapter for the backend's kind."),
    Rule("context.missing", "environment", _E, "An input given by context needs the environment's value."),
    Rule("context.value", "environment", _E, "A context value must fit the type of the input that takes it."),
    Rule("reference.environment", "environment", _E, "A release passes from one environment to the next."),
    Rule("environment.circle", "environment", _E, "Environments that follow each other have no first one."),
    Rule("environment.address", "environment", _H, "Without a public address, contracts name the host that was asked."),
    Rule("environment.address-form", "environment", _E, "A base address is an http or https URL."),
    Rule("environment.local-address", "environment", _W, "Callers elsewhere cannot reach an address of this machine."),
    Rule("environment.skipped", "environment", _W, "What was never tried in the environment before is tried on callers."),
    Rule("access.anonymous", "security", _W, "Anonymous access is a choice that should be looked at again.", True),
    Rule("credential.none", "security", _W, "A server that asks for no sign-on lets everybody in."),
    Rule("credential.unknown", "security", _E, "A credential that does not exist cannot sign on."),
    Rule("credential.kind", "security", _E, "A kind of backend takes some kinds of credential only."),
    Rule("credential.expired", "security", _E, "An expired secret is refused at the first call."),
    Rule("credential.expires", "security", _W, "Two weeks are enough to replace a secret in peace."),
    Rule("credential.shared", "security", _W, "One secret for rehearsal and live means that a mistake in the one reaches the other."),
    Rule("binding.tls", "security", _W, "A protected environment should not send a sign-on in the clear."),
    Rule("environment.plain-http", "security", _W, "Tokens of callers travel in the clear.", True),
    Rule("pool.bounds", "capacity", _E, "The least size cannot be above the greatest.", True),
    Rule("pool.rigid", "capacity", _W, "A pool whose least and greatest size are equal can neither grow nor shrink.", True),
    Rule("pool.small", "capacity", _W, "By what was measured, calls will wait.", True),
    Rule("pool.large", "capacity", _H, "By what was measured, a fraction of these sessions would do."),
    Rule("pool.backend-limit", "capacity", _W, "The backend refuses sessions above its own limit.", True),
    Rule("pool.timeouts", "capacity", _W, "A connect that may take as long as a call waits leaves no time for another endpoint.", True),
    Rule("pool.lifetimes", "capacity", _W, "A session that may idle longer than it may live never shrinks the pool.", True),
    Rule("pool.cold", "capacity", _H, "The first call after a pause pays for the sign-on."),
    Rule("pool.no-waiting", "capacity", _W, "With no waiting allowed, a burst is refused while sessions are about to come free.", True),
)}


def finding(code: str, message: str, place: str, expected: str = "", found: str = "", mend: str = "",
            mended: Definition | None = None, command: str = "") -> Finding:
    """A finding of a rule in the table, with the rule's severity."""
    return Finding(RULES[code].severity, Problem(code, message, place=place, expected=expected, found=found, mend=mend),
                   mended, command)
