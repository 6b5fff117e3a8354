"""What a handler asks of a session to a program host."""

from collections.abc import Sequence
from typing import Protocol

from bricola.core.programs.frames import Replied, SentArea


class ProgramSession(Protocol):
    """A session to a program host, for one call at a time."""

    async def call(self, program: str, areas: Sequence[SentArea], seconds: float) -> Replied:
        """Raises ProblemError when the program abends, is refused or does not answer in time, and SessionLostError when the connection
        broke."""
        ...
