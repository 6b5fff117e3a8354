"""What relays ask of a session to a service of somebody else."""

from typing import Protocol

from bricola.core.messages.http import Answered
from bricola.core.messages.outbound import OutboundCall
from bricola.core.pool.pool import Pool


class ServiceSession(Protocol):
    async def send(self, call: OutboundCall, seconds: float) -> Answered:
        """Send a call with what signs in, and wait for the answer at most so long. Raises SessionLostError when the connection breaks
        and ProblemError when time is up or the answer is too large."""
        ...


ServicePool = Pool[ServiceSession]
