"""What an application of a simulated host is: views out, keys in, written as a generator, without sockets and clocks.

    pressed = yield View(parts)

shows a view and waits for the key. The key `Idle` is the server's: nobody pressed anything for too long.
"""

from collections.abc import Generator
from dataclasses import dataclass, field
from datetime import datetime

from bricola.core.terminals.host import Part, Pressed

IDLE = "Idle"


@dataclass(frozen=True)
class View:
    """A screen, or with `error` an input error on the one that is there."""

    parts: tuple[Part, ...] = ()
    alarm: bool = False
    error: str = ""
    alternate: bool = False  # of the terminal's other size


Application = Generator[View, Pressed, None]


@dataclass
class Account:
    """A user of a host. `most` is how many sessions it may have at a time."""

    password: str
    expired: bool = False
    most: int = 100
    sessions: set[str] = field(default_factory=set)  # devices where it is signed on


class Accounts:
    """Who may sign on, and who is."""

    def __init__(self, accounts: dict[str, Account]) -> None:
        self._accounts = accounts

    def sign_on(self, user: str, password: str, device: str) -> str:
        """Why not, or ''."""
        account = self._accounts.get(user.strip().upper())
        if account is None or account.password != password.strip():
            return "USER ID OR PASSWORD IS WRONG"
        if account.expired:
            return "YOUR PASSWORD HAS EXPIRED - CALL THE CONTROL ROOM"
        if len(account.sessions) >= account.most:
            return f"{user.strip().upper()} IS ALREADY SIGNED ON AT {sorted(account.sessions)[0]}"
        account.sessions.add(device)
        return ""

    def sign_off(self, user: str, device: str) -> None:
        account = self._accounts.get(user.strip().upper())
        if account is not None:
            account.sessions.discard(device)


def typed(pressed: Pressed, row: int, column: int) -> str:
    """What stands in the field that begins there, where it was modified."""
    return pressed.fields.get((row - 1) * 80 + column - 1, "").strip()


def day(moment: datetime) -> str:
    return moment.strftime("%d/%m/%y")


def amount(value: object) -> str:
    """A number with thousands and two places; CR behind a credit."""
    number = float(str(value))
    return f"{abs(number):,.2f}{'CR' if number < 0 else ''}"
