"""Asking the other side of a relay directly, with the message that a caller would send us."""

import time
from typing import Any

from bricola.core.calls.call import Came
from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.relays.handlers import outbound
from bricola.core.kinds.relays.kind import Resolved
from bricola.core.messages.envelope import read_envelope
from bricola.core.xml import parse_xml
from bricola.server.kinds.kind import Visit

_SECONDS = 60.0


async def ask(operation: ResolvedOperation, message: bytes, visit: Visit) -> dict[str, Any]:
    """Send a message on by hand, past the service: status, time and the answer as it came. Raises ProblemError."""
    source: Resolved = operation.source
    envelope = read_envelope(parse_xml(message), False, operation.shape.understood, operation.shape.input.tag == "")
    empty = operation.shape.input.tag == ""
    came = Came(None if empty else envelope.payload, tuple(envelope.headers))
    call = outbound(operation.shape, source.soap, source.definition.headers, came)
    async with visit(source.definition.backend) as session:
        started = time.perf_counter()
        answered = await session.send(call, _SECONDS)
        elapsed = time.perf_counter() - started
        return {"backend": source.definition.backend, "address": session.address, "status": answered.status,
                "ms": round(elapsed * 1000, 2), "content_type": answered.content_type, "body": answered.body}
