"""What the terminals of both families share: settings, the agreement on telnet options, and what is refused before it is typed.

Strategy: `receive` takes what came from the host and gives what goes back at once; the screen is a value that anybody may look at;
`press` gives the bytes of a key. The host leads: nothing is sent that it did not ask for, and nothing is typed while it has the
keyboard locked.
"""

from dataclasses import dataclass

from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.terminals import telnet
from bricola.core.terminals.codepages import encode
from bricola.core.terminals.options import Options
from bricola.core.terminals.screen import Field, Screen
from bricola.core.terminals.telnet import DO, WILL, WONT, Option, Subnegotiation, TelnetReader, TelnetRecord

_MOST_OPTIONS = 200  # commands in one session; a host that negotiates on is not going to stop
_FROM_THE_HOST = frozenset((telnet.BINARY, telnet.END_OF_RECORD, telnet.TERMINAL_TYPE))  # options that it may have on its side
_LETTERS = frozenset(" ,.-")  # what an alphabetic field takes beside letters
_NUMBERS = frozenset("0123456789.,-+ ")


@dataclass(frozen=True)
class TerminalSettings:
    """What the terminal says that it is. `lu` is a wanted device or LU name; '' leaves the choice to the host.

    `model` is the 3270 model (2-5), whose second size is a given one with `size` (rows, columns: a dynamic terminal); `wide` is the
    5250 of 27x132. `user` and `password` sign a 5250 on by itself where the host allows it (RFC 4777, section 5), in clear text: over
    TLS only.
    """

    model: int = 2
    size: tuple[int, int] | None = None
    colour: bool = True
    lu: str = ""
    code_page: str = "cp037"
    extended: bool = True  # TN3270E, where the host offers it
    wide: bool = False
    user: str = ""
    password: str = ""

    @property
    def type_name(self) -> str:
        """The terminal type of a 3270 (RFC 1576, RFC 2355)."""
        if self.size is not None:
            return "IBM-DYNAMIC"
        return f"IBM-327{9 if self.colour else 8}-{self.model}-E"


class Terminal:
    """One session. `device` is the name that the host gave; `records` counts what the host wrote, so that a wait can tell news."""

    accepted: frozenset[int] = frozenset((telnet.BINARY, telnet.TERMINAL_TYPE, telnet.END_OF_RECORD))
    keys: frozenset[str] = frozenset()

    def __init__(self, settings: TerminalSettings) -> None:
        self._settings = settings
        self._reader = TelnetReader()
        self.device = settings.lu
        self.records = 0
        self._options = Options(self.accepted, _FROM_THE_HOST)
        self._negotiated = 0
        self.signs = 0  # answers of the host to our own questions whether it is there
        self._seen: Screen | None = None  # what is shown now
        self._layout: Screen | None = None  # the same but for what was typed since

    @property
    def screen(self) -> Screen:
        if self._seen is None:
            self._seen = self._layout = self._look()
        return self._seen

    @property
    def connected(self) -> bool:
        """Whether records of this family flow."""
        mine, theirs = self._options.mine, self._options.theirs
        return {telnet.BINARY, telnet.END_OF_RECORD} <= mine & theirs and telnet.TERMINAL_TYPE in mine

    def press(self, key: str) -> bytes:
        """The bytes of a key. Raises ProblemError while the keyboard is locked."""
        raise NotImplementedError

    def reset(self) -> None:
        """The Reset key: the keyboard opens on the terminal's own word, as after an input error that the host told."""
        raise NotImplementedError

    def place_cursor(self, position: int) -> None:
        self._move(position)
        self._seen = None

    def _look(self) -> Screen:
        raise NotImplementedError

    def _move(self, position: int) -> None:
        raise NotImplementedError

    def _fill(self, start: int, codes: bytes) -> None:
        raise NotImplementedError

    def _record(self, data: bytes) -> bytes:
        raise NotImplementedError

    def _subnegotiation(self, event: Subnegotiation) -> bytes:
        raise NotImplementedError

    def _changed(self) -> None:
        self._seen = self._layout = None

    def receive(self, data: bytes) -> bytes:
        """What goes back for what came. Raises ProblemError for a host that breaks the rules so that nothing can go on."""
        out = bytearray()
        for event in self._reader.feed(data):
            if isinstance(event, TelnetRecord):
                self._changed()
                out += self._record(event.data)
            elif isinstance(event, Option):
                out += self._option(event)
            elif isinstance(event, Subnegotiation):
                out += self._subnegotiation(event)
        return bytes(out)

    def ask(self) -> bytes:
        """A question that every telnet host answers, if only by refusing (RFC 860); `signs` counts the answers."""
        return telnet.option(DO, telnet.TIMING_MARK)

    def type_into(self, start: int, text: str, place: str = "") -> None:
        """Fill the input field that begins at a position; see `fill`."""
        self.fill({start: text}, {start: place})

    def fill(self, texts: dict[int, str], places: dict[int, str]) -> None:
        """Fill fields, position -> text. Raises ProblemError, and types nothing, where `check_fill` refuses one of them."""
        checked = check_fill(self._layout or self.screen, texts, places, self._settings.code_page)
        for start, text in checked.items():
            self._fill(start, encode(text, self._settings.code_page))
        self._seen = None

    def _option(self, event: Option) -> bytes:
        code = event.option
        if code == telnet.TIMING_MARK and event.verb in (WILL, WONT):
            self.signs += 1
            return b""
        if code == telnet.TIMING_MARK and event.verb == DO:
            return telnet.option(WILL, code)
        self._negotiated += 1
        if self._negotiated > _MOST_OPTIONS:
            raise ProblemError(Problem("terminal.negotiation", "The host negotiates without end.", Kind.BACKEND,
                                       expected=f"an agreement within {_MOST_OPTIONS} commands"))
        return self._options.receive(event)


def field_text(field: Field, text: str, place: str = "") -> str:
    """The text as the field takes it. Raises ProblemError where it does not fit: too long, no number, not of letters."""
    if field.monocase:
        text = text.upper()
    most = field.length - 1 if field.accepts == "signed" else field.length
    signed = field.accepts == "signed" and text.endswith("-")
    if len(text) - signed > most:
        raise ProblemError(Problem("terminal.too-long", "The text does not fit into the field.", place=place,
                                   expected=f"at most {most} characters", found=f"{len(text)} characters", mend="Shorten it."))
    if field.numeric and not set(text) <= _NUMBERS:
        raise ProblemError(Problem("terminal.not-numeric", "The field takes numbers only.", place=place,
                                   expected="digits, sign and point", found=shown(text)))
    if field.accepts in ("digits", "signed") and not (text[:-1] if signed else text).strip().isdecimal() and text.strip():
        raise ProblemError(
            Problem("terminal.not-numeric", "The field takes digits only.", place=place, expected="digits", found=shown(text))
        )
    if field.accepts == "letters" and not all(one.isalpha() or one in _LETTERS for one in text):
        raise ProblemError(
            Problem("terminal.not-letters", "The field takes letters only.", place=place, expected="letters", found=shown(text))
        )
    return text


def check_fill(screen: Screen, texts: dict[int, str], places: dict[int, str], code_page: str) -> dict[int, str]:
    """The texts as their fields take them. Raises ProblemError with everything that cannot be typed: while the keyboard is locked,
    where no input begins, what is too long or not what the field takes, and each character that the host lacks."""
    problems: list[Problem] = []
    checked: dict[int, str] = {}
    for start, text in texts.items():
        place = places.get(start, "")
        try:
            checked[start] = _checked(screen, start, text, place)
            encode(checked[start], code_page, place)
        except ProblemError as error:
            problems += error.problems
    if problems:
        raise ProblemError(*problems)
    return checked


def _checked(screen: Screen, start: int, text: str, place: str) -> str:
    if screen.locked:
        raise ProblemError(locked(place))
    field = next((one for one in screen.inputs if one.start == start), None)
    if field is None and screen.formatted:
        row, column = divmod(start, screen.columns)
        raise ProblemError(Problem("terminal.protected", "No input field begins here.", Kind.BACKEND, place=place,
                                   expected="an input field", found=f"row {row + 1}, column {column + 1}"))
    return field_text(field, text, place) if field is not None else text


def locked(place: str) -> Problem:
    return Problem("terminal.locked", "The host has locked the keyboard.", Kind.BACKEND, place=place,
                   expected="a record of the host that unlocks it")


def device_in_use(device: str, reason: str) -> ProblemError:
    """The host has no room for a session under this name: no failure of the host, which says so."""
    return ProblemError(Problem("backend.no-room", "The host takes no further session on this device.", Kind.BUSY, place=device,
                                mend="Try again in a moment.", inner=reason))


def device_refused(device: str, reason: str) -> ProblemError:
    return ProblemError(Problem("terminal.device-refused", f"The host refuses the device: {reason}.", Kind.BACKEND, place=device,
                                mend="Choose another LU or device name, or free this one."))
