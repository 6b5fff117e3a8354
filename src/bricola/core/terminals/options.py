"""The agreement on telnet options as a table (RFC 854, pages 2 and 3; RFC 855; the loops that it prevents: RFC 1143, section 2).

Each side of each option is on or off. A verb of the other party asks for a change or reports one; the table says what the option is
afterwards and what is answered. The rule behind every line: an answer goes out only where something changes or is refused, since an
answer to what is agreed already would be answered in turn, for ever.
"""

from typing import NamedTuple

from bricola.core.terminals.telnet import DO, DONT, WILL, WONT, Option, option


class Transition(NamedTuple):
    """Whether the option is on afterwards, and the verb of the answer, None for silence."""

    on: bool
    answer: int | None


# (what came, whether the option is on, whether we accept it) -> what follows. DO and DONT speak of our side, WILL and WONT of theirs.
MOVES: dict[tuple[int, bool, bool], Transition] = {
    (DO, False, True): Transition(True, WILL),
    (DO, True, True): Transition(True, None),
    (DO, False, False): Transition(False, WONT),
    (DONT, True, True): Transition(False, WONT),
    (DONT, False, True): Transition(False, None),
    (DONT, False, False): Transition(False, None),
    (WILL, False, True): Transition(True, DO),
    (WILL, True, True): Transition(True, None),
    (WILL, False, False): Transition(False, DONT),
    (WONT, True, True): Transition(False, DONT),
    (WONT, False, True): Transition(False, None),
    (WONT, False, False): Transition(False, None),
}


class Options:
    """Which options are on: `mine` on our side, `theirs` on the other's. What is not accepted never comes on."""

    __slots__ = ("_mine", "_theirs", "mine", "theirs")

    def __init__(self, mine: frozenset[int], theirs: frozenset[int]) -> None:
        self._mine, self._theirs = mine, theirs  # that are accepted
        self.mine: set[int] = set()
        self.theirs: set[int] = set()

    def refuse(self, code: int) -> bytes:
        """Take an option of ours back, for good; what tells it."""
        self._mine -= {code}
        self.mine.discard(code)
        return option(WONT, code)

    def receive(self, event: Option) -> bytes:
        """Make the move; what goes back."""
        side, accepted = (self.mine, self._mine) if event.verb in (DO, DONT) else (self.theirs, self._theirs)
        move = MOVES[event.verb, event.option in side, event.option in accepted]
        (side.add if move.on else side.discard)(event.option)
        return b"" if move.answer is None else option(move.answer, event.option)
