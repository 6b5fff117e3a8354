"""The negotiation of TN3270E as a table (RFC 2355, section 7): the device type first, then the functions.

| phase | what came | then | what is done |
| --- | --- | --- | --- |
| offered | SEND DEVICE-TYPE | device asked | we ask for our device type, and for our LU where one is wanted |
| device asked | SEND DEVICE-TYPE | device asked | the host wants to hear it again |
| device asked | DEVICE-TYPE IS | functions asked | the device is ours; we ask for functions |
| device asked | DEVICE-TYPE REJECT | device asked | another type is asked for; after the last it goes on without TN3270E, or ends |
| functions asked, agreed | FUNCTIONS IS | agreed | they hold; the second where both asked at once |
| functions asked, agreed | FUNCTIONS REQUEST | agreed, or functions asked | what we know of a counter offer; all of it ends the talk |

What is not in the table is no word of this phase and is passed over: a host that waits for an answer to it ends at our time-out.
"""

from collections.abc import Callable
from enum import StrEnum

from bricola.core.terminals import telnet
from bricola.core.terminals.codes3270 import REASONS, Function, Reason, Word
from bricola.core.terminals.terminal import device_in_use, device_refused

OURS = (Function.BIND_IMAGE, Function.RESPONSES, Function.SYSREQ)
_OF_THE_NAME = frozenset((Reason.CONN_PARTNER, Reason.DEVICE_IN_USE, Reason.INV_NAME, Reason.TYPE_NAME_ERROR))


class Phase(StrEnum):
    OFFERED = "offered"
    DEVICE_ASKED = "device asked"
    FUNCTIONS_ASKED = "functions asked"
    AGREED = "agreed"


class Negotiation:
    """The client's side. `device` is the name that the host gave, `functions` what both agreed on, `type_name` the type of device that is
    asked for. `given_up`: the host takes none of our types, and the session goes on in plain TN3270."""

    __slots__ = ("_lu", "_other_types", "device", "functions", "given_up", "phase", "type_name")

    def __init__(self, type_name: str, lu: str) -> None:
        self.phase = Phase.OFFERED
        self.device = ""
        self.functions: frozenset[int] = frozenset()
        self.given_up = False
        self.type_name = type_name
        others = dict.fromkeys((type_name.removesuffix("-E"), "IBM-3278-2-E", "IBM-3278-2"))
        self._other_types = [one for one in others if one != type_name]
        self._lu = lu

    @property
    def has_device(self) -> bool:
        """From here on records have the header of section 8.1."""
        return self.phase in (Phase.FUNCTIONS_ASKED, Phase.AGREED)

    def receive(self, data: bytes) -> bytes:
        """What goes back for a subnegotiation's data. Raises ProblemError when the host refuses the device."""
        move = _MOVES.get((self.phase, *data[:2]))
        if move is None:
            return b""
        self.phase, act = move
        return act(self, data[2:])

    def _ask_device(self, _: bytes) -> bytes:
        wanted = bytes((Word.CONNECT,)) + self._lu.encode("ascii") if self._lu else b""
        return _say(Word.DEVICE_TYPE, Word.REQUEST, more=self.type_name.encode("ascii") + wanted)

    def _take_device(self, said: bytes) -> bytes:
        self.device = said.partition(bytes((Word.CONNECT,)))[2].decode("ascii", "replace")
        return _say(Word.FUNCTIONS, Word.REQUEST, *OURS)

    def _refused(self, said: bytes) -> bytes:
        reason = said[1] if len(said) > 1 else Reason.UNKNOWN_ERROR
        words = REASONS[reason] if reason < len(REASONS) else "unknown-error"
        if self._lu and reason in _OF_THE_NAME:  # no other type would help, and in plain TN3270 the host would choose another LU
            raise (device_in_use if reason == Reason.DEVICE_IN_USE else device_refused)(self._lu, words)
        if self._other_types:
            self.type_name = self._other_types.pop(0)
            return self._ask_device(b"")
        if self._lu:
            raise device_refused(self._lu, words)
        self.given_up = True
        return b""

    def _keep_functions(self, said: bytes) -> bytes:
        self.functions = frozenset(said)
        return b""

    def _weigh_functions(self, said: bytes) -> bytes:
        offered = frozenset(said)
        self.functions = offered & frozenset(OURS)
        self.phase = Phase.AGREED if self.functions == offered else Phase.FUNCTIONS_ASKED
        return _say(Word.FUNCTIONS, Word.IS if self.functions == offered else Word.REQUEST, *sorted(self.functions))


def _say(*words: int, more: bytes = b"") -> bytes:
    return telnet.subnegotiation(telnet.TN3270E, bytes(words) + more)


Act = Callable[[Negotiation, bytes], bytes]
_MOVES: dict[tuple[int | str, ...], tuple[Phase, Act]] = {
    (Phase.OFFERED, Word.SEND, Word.DEVICE_TYPE): (Phase.DEVICE_ASKED, Negotiation._ask_device),
    (Phase.DEVICE_ASKED, Word.SEND, Word.DEVICE_TYPE): (Phase.DEVICE_ASKED, Negotiation._ask_device),
    (Phase.DEVICE_ASKED, Word.DEVICE_TYPE, Word.IS): (Phase.FUNCTIONS_ASKED, Negotiation._take_device),
    (Phase.DEVICE_ASKED, Word.DEVICE_TYPE, Word.REJECT): (Phase.DEVICE_ASKED, Negotiation._refused),
    (Phase.FUNCTIONS_ASKED, Word.FUNCTIONS, Word.IS): (Phase.AGREED, Negotiation._keep_functions),
    (Phase.FUNCTIONS_ASKED, Word.FUNCTIONS, Word.REQUEST): (Phase.FUNCTIONS_ASKED, Negotiation._weigh_functions),
    (Phase.AGREED, Word.FUNCTIONS, Word.IS): (Phase.AGREED, Negotiation._keep_functions),
    (Phase.AGREED, Word.FUNCTIONS, Word.REQUEST): (Phase.AGREED, Negotiation._weigh_functions),
}
