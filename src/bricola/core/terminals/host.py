"""What the simulated hosts of both families share: the parts of a screen, what a person did at it, and taking in what a terminal says."""

from dataclasses import dataclass, field
from typing import NamedTuple

from bricola.core.terminals import telnet
from bricola.core.terminals.telnet import DO, WILL, Option, Subnegotiation, TelnetReader, TelnetRecord

TURNS = (telnet.END_OF_RECORD, telnet.BINARY)  # that both sides agree on, each way


@dataclass(frozen=True)
class Pressed:
    """A key with the cursor and the modified fields: position -> text. Positions count from 0."""

    key: str
    cursor: int = 0
    fields: dict[int, str] = field(default_factory=dict)


class Part(NamedTuple):
    """A piece of a screen: text at a row and column (both from 1), behind an attribute that stands before it. A tuple, since a host makes
    dozens for every screen."""

    row: int
    column: int
    text: str = ""
    protected: bool = True
    numeric: bool = False
    hidden: bool = False
    intensified: bool = False
    modified: bool = False
    length: int = 0  # of an input: the attribute that ends it stands behind
    cursor: bool = False
    colour: str = ""  # blue, red, pink, green, turquoise, yellow, white; '' leaves it to the terminal
    monocase: bool = False  # of a 5250's input


class TelnetHost:
    """One terminal's session at a host. `device` is the name that the terminal asked for, or the one that it is given."""

    def __init__(self, device: str, code_page: str) -> None:
        self.device = device
        self.ready = False  # records may be sent
        self.terminal = ""  # its type, as it says
        self._code_page = code_page
        self._reader = TelnetReader()
        self._agreed: set[tuple[int, int]] = set()

    def receive(self, data: bytes) -> tuple[bytes, list[Pressed]]:
        """What goes back, and the keys that were pressed. Raises ProblemError for a terminal that cannot be talked to."""
        out, keys = bytearray(), []
        for event in self._reader.feed(data):
            if isinstance(event, Option):
                out += self._option(event)
            elif isinstance(event, Subnegotiation):
                out += self._subnegotiation(event)
            elif isinstance(event, TelnetRecord):
                pressed = self._pressed(event.data)
                if pressed is not None:
                    keys.append(pressed)
        return bytes(out), keys

    def _turn(self, event: Option) -> None:
        """Note what was agreed; with all of it the session is ready."""
        self._agreed.add((event.verb, event.option))
        self.ready = self._agreed >= {(verb, code) for verb in (DO, WILL) for code in TURNS}

    def _option(self, event: Option) -> bytes:
        raise NotImplementedError

    def _subnegotiation(self, event: Subnegotiation) -> bytes:
        raise NotImplementedError

    def _pressed(self, data: bytes) -> Pressed | None:
        """What a record tells; None for one that is no key."""
        raise NotImplementedError
