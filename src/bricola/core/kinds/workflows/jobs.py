"""Workflows that answer later: what accepts a call as a job, and the two operations that are published with it."""

from bricola.core.calls.call import Call, Handler
from bricola.core.definitions.model import Operation
from bricola.core.durations import HOUR
from bricola.core.jobs import values as kept
from bricola.core.jobs.journal import failure_of
from bricola.core.jobs.model import Job, JobState, ended_by_hand
from bricola.core.kinds.workflows.definition import WorkflowDefinition
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import Element, OperationShape, Record, Values
from bricola.core.shapes.simple import SimpleType

NOW, STATUS, RESULT = "now", "status", "result"  # verbs: while the caller waits; what is known of a job; what it gave
VERBS = (NOW, STATUS, RESULT)
SECONDS = HOUR  # that a job may take, where the workflow does not say
TRIAL = "trial"  # stands for the id where nothing is kept

_JOB = Element("job", SimpleType("string", max_length=64), description="The number under which it was accepted",
               sample="1a22117c0d4-3e0a1-9f2c4be07d51a86c3b94e2d0", echoed=True)
_MOMENT = SimpleType("dateTime")
_STATUS = (
    _JOB,
    Element("state", SimpleType("string", codes=tuple(JobState)), description="Where it is"),
    Element("acceptedAt", _MOMENT, description="When it was accepted"),
    Element("changedAt", _MOMENT, description="When something happened last"),
    Element("stepsDone", SimpleType("int"), description="Steps that are done; the first time through a loop and the next count apart"),
    Element("lastStep", SimpleType("string"), 0, description="The step that began last"),
    Element("message", SimpleType("string"), 0, description="Why it failed, or what it waits for"),
)


def accepting_shape(shape: OperationShape, answers: str) -> OperationShape:
    """The shape of an operation whose caller does not wait: the answer is the number of a job, or there is none."""
    if answers == "nothing":
        return OperationShape(shape.name, shape.input, Record(shape.output.name, ()), (), shape.description, True, True)
    return OperationShape(shape.name, shape.input, Record(shape.output.name, (_JOB,)), (), shape.description, True)


def companions(operation: Operation, definition: WorkflowDefinition) -> tuple[Operation, ...]:
    """What is published with an operation that answers later: its status, and its result with the same outputs."""
    if definition.answers != "later" or operation.verb in VERBS:
        return ()
    runs = f"{definition.kind} {definition.name}"
    return (
        Operation(name=f"{operation.name}Status", runs=f"{runs}.{STATUS}", description=f"Tells where a job of {operation.name} is"),
        Operation(name=f"{operation.name}Result", runs=f"{runs}.{RESULT}", gives=operation.gives,
                  description=f"Gives what a job of {operation.name} gave, or how it failed"),
    )


def status_shape(name: str, description: str) -> OperationShape:
    return OperationShape(name, Record(name, (_JOB,)), Record(f"{name}Response", _STATUS), (), description)


def result_shape(name: str, whole: OperationShape, description: str) -> OperationShape:
    return OperationShape(name, Record(name, (_JOB,)), Record(f"{name}Response", whole.output.elements), whole.faults, description)


def accept(definition: WorkflowDefinition, run: Handler) -> Handler:
    """Keeps the call as a job, and answers at once. A trial does the steps while its caller waits, since nothing of it is kept."""
    seconds, answers = definition.seconds or SECONDS, definition.answers == "later"

    async def accepted(call: Call, values: Values) -> Values:
        if call.trial is not None or call.stand_ins is not None:
            try:
                await run(call, values)
            except DeclaredFaultError as fault:  # of the job, which this operation does not declare: it would have accepted it
                raise ProblemError(Problem("job.trial", f"The job would end in the fault {fault.name}: {fault.message}",
                                           Kind.CONFLICT)) from None
            number = TRIAL
        elif call.desk is None:
            raise ProblemError(Problem("job.no-desk", "Jobs are accepted where services are called, and not here.", Kind.INTERNAL))
        else:
            number = await call.desk.accept(call, definition.name, values, seconds, definition.call_back)
        return {_JOB.name: number} if answers else {}

    return accepted


def tell_status(definition: WorkflowDefinition) -> Handler:
    async def told(call: Call, values: Values) -> Values:
        job = await _found(call, definition, values)
        answer: Values = {"job": job.id, "state": str(job.state), "acceptedAt": kept.moment(job.accepted_at),
                          "changedAt": kept.moment(job.changed_at or job.accepted_at), "stepsDone": job.steps}
        if job.step:
            answer["lastStep"] = job.step
        if job.words:
            answer["message"] = job.words
        return answer

    return told


def tell_result(definition: WorkflowDefinition, shape: OperationShape) -> Handler:
    names = frozenset(one.name for one in shape.output.slots)

    async def told(call: Call, values: Values) -> Values:
        job = await _found(call, definition, values)
        if job.state is JobState.DONE:
            return {name: value for name, value in kept.read(job.outcome).items() if name in names}
        if job.state in (JobState.FAULT, JobState.FAILED, JobState.CANCELLED):
            raise failure_of(kept.read(job.outcome))
        if job.state is JobState.LEFT:
            raise ProblemError(ended_by_hand(job.id))
        mend = "Ask again later." if job.state is not JobState.UNKNOWN else "The people who run the service look into it; ask again later."
        raise ProblemError(Problem("job.unfinished", "The job has no result yet.", Kind.BUSY, place="job", expected="state done",
                                   found=str(job.state), mend=mend))

    return told


async def _found(call: Call, definition: WorkflowDefinition, values: Values) -> Job:
    if call.desk is None:
        raise ProblemError(Problem("job.no-desk", "Jobs are asked for where services are called, and not here.", Kind.INTERNAL))
    return await call.desk.find(call, definition.name, values[_JOB.name])
