"""Steps that ask an address over HTTP, and steps that read and write files: both through sessions of a pool."""

import json
from collections.abc import Awaitable, Callable, Mapping
from typing import Any

from bricola.core.calls.standing import StandIns
from bricola.core.calls.trace import Held
from bricola.core.calls.written import Written
from bricola.core.expressions.compiling import Compiled
from bricola.core.jobs.journal import Done, Once
from bricola.core.jobs.marks import RequestMark
from bricola.core.json_text import read_json
from bricola.core.kinds.workflows.acting import Binder, Made, makes
from bricola.core.kinds.workflows.program import FileNode, HttpNode, writes_of
from bricola.core.kinds.workflows.running import Names, Run, again, to_its_end
from bricola.core.messages.http import Answered
from bricola.core.messages.plain import from_plain
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.primitives import lexical
from bricola.core.shapes.simple import SimpleType

_MOST_PATH = 2_000
_JSON = {"Accept": "application/json"}


@makes(HttpNode)
def _http(binder: Binder, node: HttpNode) -> Made:
    pool = binder.pools[node.backend]
    # What may be done again, HTTP says of most methods (RFC 9110, section 9.2.2), and of the others who knows the other side.
    how = Once(writes_of(node), node.repeatable or node.method in ("PUT", "DELETE"))
    binding = binder.environment.binding(node.backend)
    seconds = binding.answer_seconds if binding is not None else 30.0
    shown = Record("", (Element("status", SimpleType("int")), *((Element("body", node.gives),) if node.gives is not None else ())))

    async def ask(run: Run, path: str, headers: dict[str, str], body: bytes) -> Answered:
        session = pool.take(run.call) or await pool.borrow(run.call)
        broken = True
        try:
            answered: Answered = await session.ask(node.method, path, headers, body, run.call.seconds_left(pool.now(), seconds))
            broken = False
            return answered
        except SessionLostError:
            raise
        except ProblemError as error:
            broken = error.problem.code != "outside.sign-in"
            raise
        finally:
            pool.give_back(session, broken)

    async def run(run: Run, names: Names) -> bool:
        if run.call.trial is not None and run.call.stand_ins is None and node.method != "GET":
            raise ProblemError(Problem("trial.address", "What the other side stores cannot be rolled back from here.", place=node.path,
                                       mend="Call it without a trial, in an environment where it may write."))
        path = str(await run.value(node.where, names)) if node.where is not None else ""
        _check_path(path, node.path)
        headers = dict(_JSON)
        for name, compiled in node.headers.items():
            headers[name] = _header(str(await run.value(compiled, names)), f"{node.path}, {name}")
        body = b""
        if node.body is not None:
            plain = plain_json(await run.value(node.body, names))
            body = json.dumps(plain).encode()
            headers["Content-Type"] = "application/json"
            if run.call.span is not None:
                run.call.span.taken = Held(None, plain, node.body.secret)
        run.call.note(f"{node.method} {path or '/'}" if node.where is None or not node.where.secret else node.method)

        async def work(mark: RequestMark | None) -> Done:
            if run.call.stand_ins is not None:
                return Done(_standing(node, run.call.stand_ins))
            return Done(_answer(node, await again(run, node.tries, node.pause, lambda: ask(run, path, headers, body))))

        names[node.name] = await outside(run, node.path, how, work)
        if how.writes and run.call.written is not None:
            where = {"path": path} if node.where is None or not node.where.secret else {}
            keys = {"method": node.method, **where, "status": str(names[node.name]["status"])}
            run.call.written.append(Written(run.key(node.path), f"http {node.backend}", keys, frozenset((node.backend,))))
        if run.call.span is not None:
            run.call.span.given = Held(shown, names[node.name])
        return False

    return None, run


async def outside(run: Run, path: str, how: Once, work: Callable[[RequestMark | None], Awaitable[Done]]) -> Any:
    """What something outside gives, in a job once."""
    if run.journal is None:
        return (await work(None)).value
    asked = run.journal.once(path, how, work)
    return (await (to_its_end(asked) if how.writes else asked)).value


def plain_json(value: Any) -> Any:
    """A value as JSON has it: decimals and dates as text, so that nothing is lost."""
    if isinstance(value, Mapping):
        return {name: plain_json(inner) for name, inner in value.items()}
    if isinstance(value, list | tuple):
        return [plain_json(one) for one in value]
    return value if value is None or isinstance(value, bool | int | float | str) else lexical(value)


def _check_path(path: str, place: str) -> None:
    """A path stays below the address of the backend (RFC 3986, section 3.3): what is put into it can lead nowhere else."""
    steps = path.partition("?")[0].split("/")
    elsewhere = "://" in path.partition("?")[0] or path.startswith("//") or "\\" in path or not {".", ".."}.isdisjoint(steps)
    if len(path) > _MOST_PATH or elsewhere or any(not " " < one < "\x7f" for one in path):
        raise ProblemError(Problem("workflow.path", "This is no path below the address.", place=place, found=shown(path),
                                   expected="ASCII, without spaces, '..' and another host"))


def _header(text: str, place: str) -> str:
    if len(text) > 1_000 or any(not " " <= one <= "~" for one in text):
        raise ProblemError(Problem("workflow.header", "This cannot stand in a header.", place=place, found=shown(text),
                                   expected="up to 1000 printable ASCII characters"))
    return text


def _standing(node: HttpNode, stand_ins: StandIns) -> dict[str, Any]:
    """What an address is answered in a test without it."""
    told = stand_ins.plain(node.path)
    body = json.dumps(plain_json(told.get("body"))).encode() if told.get("body") is not None else b""
    return _answer(node, Answered(int(told.get("status", 200)), "application/json", body))


def _answer(node: HttpNode, answered: Answered) -> dict[str, Any]:
    if answered.status not in node.accepts:
        raise ProblemError(Problem("outside.status", "The other side answers with a status that is not expected.", Kind.BACKEND,
                                   place=node.path, expected=_statuses(node.accepts), found=str(answered.status)))
    if node.gives is None:
        return {"status": answered.status}
    try:
        plain = read_json(answered.body)
    except ProblemError as error:
        raise ProblemError(Problem("outside.json", "The other side answers with something that is no JSON, or beyond what is read of it.",
                                   Kind.BACKEND, place=node.path, expected="application/json",
                                   found=shown(answered.content_type or "no media type"), inner=error.problem.message)) from None
    problems: list[Problem] = []
    known = {one.name for one in node.gives.slots}
    if isinstance(plain, dict):
        plain = {name: value for name, value in plain.items() if name in known}
    body = from_plain(node.gives, plain, node.gives.name, problems)
    if problems:
        first = problems[0]
        raise ProblemError(Problem("outside.contract", f"The other side's answer is not as expected. {first.message}", Kind.BACKEND,
                                   place=f"{node.path}, {first.place}", expected=first.expected, inner=first.found))
    return {"status": answered.status, "body": body}


def _statuses(accepts: tuple[int, ...]) -> str:
    return "a status from 200 to 299" if accepts == tuple(range(200, 300)) else f"one of {', '.join(map(str, accepts))}"


@makes(FileNode)
def _file(binder: Binder, node: FileNode) -> Made:
    pool = binder.pools[node.folder]
    text: Compiled | None = node.text

    async def run(run: Run, names: Names) -> bool:
        if run.call.trial is not None and run.call.stand_ins is None and text is not None:
            raise ProblemError(Problem("trial.file", "A file that is written cannot be rolled back.", place=node.path))
        path = str(await run.value(node.where, names))
        content = str(await run.value(text, names)) if text is not None else ""

        async def work(mark: RequestMark | None) -> Done:
            if run.call.stand_ins is not None:
                return Done({"path": path, **({"text": run.call.stand_ins.plain(node.path).get("text", "")} if text is None else {})})
            async with pool.session(run.call) as session:
                if text is None:
                    return Done({"path": path, "text": await session.read(path)})
                await session.write(path, content)
                return Done({"path": path})

        names[node.name] = await outside(run, node.path, Once(text is not None, True), work)
        if text is not None and run.call.written is not None:
            run.call.written.append(Written(run.key(node.path), f"folder {node.folder}", {"path": path}, frozenset((node.folder,))))
        run.call.note(f"{'wrote' if text is not None else 'read'} {path}")
        return False

    return None, run
