"""Between an operation and what runs it: the inputs that callers neither give nor see, and the maps of a contract that is followed."""

from bricola.core.calls.call import Call, Handler
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.given import call_value, context_values
from bricola.core.shapes.model import Values


def with_given(handler: Handler, operation: ResolvedOperation, environment: EnvironmentDefinition) -> Handler:
    """The handler with the values that callers do not give, with its inputs taken out of the element around them, and with the maps from
    and to the contract that it follows."""
    ways = operation.ways
    handler = _completed(handler, operation if ways is None else ways.inner, environment)
    if ways is None:
        return handler
    into, out, faults = ways.into.run, ways.out.run, ways.faults

    async def mapped(call: Call, values: Values) -> Values:
        try:
            with call.by_values():
                return out(await handler(call, into(values)))
        except DeclaredFaultError as fault:
            known = faults.get(fault.name)
            if known is None:  # the contract has no such fault, so it is told as any other failure
                raise ProblemError(Problem("fault.undeclared", fault.message, Kind.CONFLICT, found=fault.name)) from None
            raise DeclaredFaultError(known[0], fault.message, known[1].run(dict(fault.detail)), fault.cause) from None

    return mapped


def completed(operation: ResolvedOperation, environment: EnvironmentDefinition, values: Values) -> Values:
    """Values with those that nobody but the service and the environment gives. Raises ProblemError where the environment lacks one."""
    inner = values[operation.nested] if operation.nested and operation.nested in values else values
    return operation.given.fixed | context_values(operation.given, operation.shape.name, environment) | inner


def _completed(handler: Handler, operation: ResolvedOperation, environment: EnvironmentDefinition) -> Handler:
    given, nested = operation.given, operation.nested
    constant = given.fixed | context_values(given, operation.shape.name, environment)
    makers = [(name, kind, call_value(source, kind)) for name, (source, kind) in given.per_call.items()]
    if not constant and not makers:
        if not nested:
            return handler

        async def taken_out(call: Call, values: Values) -> Values:
            return await handler(call, values[nested])

        return taken_out

    async def completed(call: Call, values: Values) -> Values:
        whole = constant | (values[nested] if nested else values)
        if makers:
            for name, kind, make in makers:
                value = whole[name] = make(call.caller.name, call.id, call.at)
                if code := kind.check(value):
                    raise ProblemError(Problem(code, "What the call itself gives does not fit this input.", place=name, expected=kind.rule,
                                               mend="The owner of the service gives the input a wider type, or another value."))
        with call.by_values():
            return await handler(call, whole)

    return completed
