"""The gateway: a raw ASGI application in front of everything, since a call must not pay for a web framework.

It answers POST on /soap and /rest itself and hands every other request on.
"""

import json
import time
import zlib
from email.utils import formatdate

from asgiref.typing import ASGI3Application, ASGIReceiveCallable, ASGISendCallable, HTTPScope, Scope

from bricola.core.messages.envelope import Soap, read_media_type
from bricola.core.messages.faults import fault_status, problem_fault
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.serving.documents import PROBLEM_JSON, problem_document
from bricola.core.serving.faces import Request
from bricola.core.serving.pipeline import Answer
from bricola.core.xml import MOST_BYTES, too_large
from bricola.server.bricola import ROUND_SECONDS, Bricola
from bricola.server.ports.places import LivePlace, Retirement

_CHALLENGE = (b"www-authenticate", b'Basic realm="Bricola", charset="UTF-8"')


class _ClientGoneError(Exception):
    """The caller closed the connection before the request was complete."""


class Gateway:
    """ASGI application. `rest` is everything that is not a call."""

    def __init__(self, bricola: Bricola, others: ASGI3Application) -> None:
        self._bricola = bricola
        self._others = others

    async def __call__(self, scope: Scope, receive: ASGIReceiveCallable, send: ASGISendCallable) -> None:
        if scope["type"] == "http":
            path: str = scope["path"]
            if path.startswith("/soap/") and scope["method"] not in ("GET", "HEAD"):
                return await self._soap(scope, path, receive, send)
            if path.startswith("/rest/") and not path.endswith("/openapi.json"):
                return await self._rest(scope, path, receive, send)
        return await self._others(scope, receive, send)

    async def _soap(self, scope: HTTPScope, path: str, receive: ASGIReceiveCallable, send: ASGISendCallable) -> None:
        content_type, authorization = _headers(scope)
        version = read_media_type(content_type)[0] or Soap.V11
        try:
            place = self._find(path)
            if scope["method"] != "POST":
                raise ProblemError(_wrong_method(scope["method"], "POST", "SOAP"))
            body = decoded(scope, await _read_body(scope, receive))
        except _ClientGoneError:
            return
        except ProblemError as error:
            status = fault_status(version, error.problem)
            call = self._turned_away(path, "soap", authorization, error.problem, status)
            answer = Answer(status, version.content_type, problem_fault(version, error), call, retry_after=error.problem.retry_after)
            await _respond(send, answer, allow=b"POST, GET" if error.problem.kind is Kind.METHOD else b"")
            return
        request = _request(scope, body, content_type, authorization)
        request.left = lambda: _left(receive)
        await _respond(send, await self._bricola.pipeline.soap(next(place.turns), request), sunset=place.retirement)

    async def _rest(self, scope: HTTPScope, path: str, receive: ASGIReceiveCallable, send: ASGISendCallable) -> None:
        content_type, authorization = _headers(scope)
        try:
            place = self._find(path.rpartition("/")[0])
            if scope["method"] != "POST":
                raise ProblemError(_wrong_method(scope["method"], "POST", "REST"))
            body = decoded(scope, await _read_body(scope, receive))
        except _ClientGoneError:
            return
        except ProblemError as error:
            document = json.dumps(problem_document(error), ensure_ascii=False).encode()
            call = self._turned_away(path.rpartition("/")[0], "rest", authorization, error.problem, error.problem.kind.http_status)
            answer = Answer(error.problem.kind.http_status, PROBLEM_JSON, document, call, retry_after=error.problem.retry_after)
            await _respond(send, answer, allow=b"POST" if error.problem.kind is Kind.METHOD else b"")
            return
        name = path.rpartition("/")[2]
        request = _request(scope, body, content_type, authorization)
        request.left = lambda: _left(receive)
        await _respond(send, await self._bricola.pipeline.rest(next(place.turns), name, request), sunset=place.retirement)

    def _turned_away(self, path: str, face: str, authorization: bytes | None, problem: Problem, status: int) -> str:
        """What came to no service is seen all the same; see the pipeline."""
        pieces = [*path.split("/"), "", "", "", ""]
        environment, segment = pieces[2], pieces[3]
        known = (environment, segment) in self._bricola.places.deployed()
        return self._bricola.pipeline.turned_away(environment, segment, face, authorization, problem, status, known)

    def _find(self, path: str) -> LivePlace:
        pieces = path.split("/")
        runtime = self._bricola.places
        if len(pieces) == 4:
            place = runtime.place(pieces[2], pieces[3])
            if place is not None:
                if place.retirement is not None and time.time() >= place.retirement.ends:
                    raise ProblemError(Problem(
                        "service.retired", f"{pieces[3]} ended on {place.retirement.day}.", Kind.GONE, place=path,
                        mend=place.retirement.words or "Ask the owner of the service what to use instead."))
                return place
            if runtime.down(pieces[2], pieces[3]) is not None:
                raise ProblemError(Problem(
                    "service.down", f"{pieces[3]} in {pieces[2]} is deployed but cannot answer.", Kind.BUSY, wait=ROUND_SECONDS,
                    mend="The people who run the service see the reason in their list of services."))
        raise ProblemError(Problem("service.unknown", "There is no service at this address.", Kind.MISSING, place=path,
                                   mend="The index of services is at /soap/."))


def _request(scope: HTTPScope, body: bytes, content_type: str, authorization: bytes | None) -> Request:
    """The request with what its headers ask for a write."""
    request = Request(body, content_type, authorization, _peer(scope))
    for name, value in scope["headers"]:
        if name == b"idempotency-key":
            request.request_id = value.decode("latin-1").strip().strip('"')  # a structured field of type string, RFC 8941
        elif name == b"soapaction":
            request.action = value.decode("latin-1")
        elif name == b"cache-control":  # RFC 9111, section 5.2.1.4
            request.fresh = b"no-cache" in value.lower()
        elif name == b"bricola-trial":
            request.trial = value.strip().lower() in (b"true", b"1", b"yes", b"?1")
    return request


def _headers(scope: HTTPScope) -> tuple[str, bytes | None]:
    content_type, authorization = "", None
    for name, value in scope["headers"]:
        if name == b"authorization":
            authorization = value
        elif name == b"content-type":
            content_type = value.decode("latin-1")
    return content_type, authorization


async def _read_body(scope: HTTPScope, receive: ASGIReceiveCallable) -> bytes:
    """The whole body, refused as soon as it is known to be too large."""
    for name, value in scope["headers"]:
        if name == b"content-length" and int(value) > MOST_BYTES:
            raise ProblemError(too_large(MOST_BYTES))
    pieces: list[bytes] = []
    size = 0
    while True:
        message = await receive()
        if message["type"] != "http.request":
            raise _ClientGoneError
        piece = message.get("body", b"")
        if not message.get("more_body") and not pieces:
            return piece
        pieces.append(piece)
        size += len(piece)
        if size > MOST_BYTES:
            raise ProblemError(too_large(MOST_BYTES))
        if not message.get("more_body"):
            return b"".join(pieces)


async def _left(receive: ASGIReceiveCallable) -> None:
    """Waits until the caller has closed the connection (ASGI 3, section HTTP: `http.disconnect`)."""
    while (await receive())["type"] != "http.disconnect":
        pass


def decoded(scope: HTTPScope, body: bytes) -> bytes:
    """The body without its content codings (RFC 9110, section 8.4.1), which may not make it larger than a body may be."""
    coding = b"".join(value for name, value in scope["headers"] if name == b"content-encoding").decode("latin-1").strip().lower()
    if coding in ("", "identity"):
        return body
    if coding not in _WINDOWS:
        raise ProblemError(Problem("http.coding", "This content coding is not read here.", Kind.MEDIA, place="Content-Encoding",
                                   expected=", ".join(_WINDOWS), found=shown(coding)))
    for window in _WINDOWS[coding]:
        unpacker = zlib.decompressobj(window)
        try:
            plain = unpacker.decompress(body, MOST_BYTES + 1)
        except zlib.error:
            continue
        if len(plain) > MOST_BYTES:
            raise ProblemError(too_large(MOST_BYTES))
        if unpacker.eof:
            return plain
    raise ProblemError(Problem("http.coding-broken", f"The body is not what {coding} gives.", place="Content-Encoding"))


# gzip, and both things that are called deflate: with zlib's header, as the standard has it, and without, as some send it
_WINDOWS = {"gzip": (16 + zlib.MAX_WBITS,), "x-gzip": (16 + zlib.MAX_WBITS,), "deflate": (zlib.MAX_WBITS, -zlib.MAX_WBITS)}


def _wrong_method(found: str, expected: str, face: str) -> Problem:
    return Problem("http.method", f"{face} calls are sent with {expected}.", Kind.METHOD, expected=expected, found=found)


def _peer(scope: HTTPScope) -> str:
    client = scope.get("client")
    return client[0] if client else ""


async def _respond(send: ASGISendCallable, answer: Answer, allow: bytes = b"", sunset: Retirement | None = None) -> None:
    headers = [(b"content-type", answer.content_type), (b"content-length", b"%d" % len(answer.body))]
    if answer.call:
        headers.append((b"call-id", answer.call.encode()))
    if answer.challenge:
        headers.append(_CHALLENGE)
    if allow:
        headers.append((b"allow", allow))
    if answer.trial:
        headers.append((b"bricola-trial", answer.trial.encode()))
    if answer.repeats:
        headers.append((b"repeats-call", answer.repeats.encode()))
    if answer.stub:
        headers.append((b"bricola-stub", b"nothing implements this operation yet"))
    if answer.age is not None:  # RFC 9111, section 5.1
        headers.append((b"age", b"%d" % answer.age))
    if answer.retry_after is not None:  # RFC 9110, section 10.2.3
        headers.append((b"retry-after", b"%d" % answer.retry_after))
    if sunset is not None:  # RFC 8594
        headers.append((b"sunset", formatdate(sunset.ends, usegmt=True).encode()))
    await send({"type": "http.response.start", "status": answer.status, "headers": headers, "trailers": False})
    await send({"type": "http.response.body", "body": answer.body, "more_body": False})
