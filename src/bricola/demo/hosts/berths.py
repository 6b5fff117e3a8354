"""The berth desk: a 5250 application with sign-on, menu, a list of berths, and a berth with its bookings over pages."""

from collections.abc import Callable, Generator
from datetime import datetime

from bricola.core.terminals.host import Part, Pressed
from bricola.demo.hosts.application import IDLE, Accounts, Application, View, typed
from bricola.demo.hosts.records import Berth, BerthFile

ROWS = 10  # of each list on one screen
_LEFT = (IDLE, "F3", "F12")


class BerthDesk:
    """Makes one application for each terminal. `now` gives the host's local time."""

    def __init__(self, file: BerthFile, accounts: Accounts, now: Callable[[], datetime]) -> None:
        self._file, self._accounts, self._now = file, accounts, now

    def session(self, device: str) -> Application:
        message = ""
        while True:
            user = yield from self._sign_on(device, message)
            try:
                ended = yield from self._menu(user)
            finally:
                self._accounts.sign_off(user, device)
            message = "Session ended: no key for too long." if ended == IDLE else f"{user} is signed off."

    def _view(self, identity: str, title: str, parts: list[Part], keys: str, message: str = "") -> View:
        head = [Part(1, 2, identity, colour="blue"), Part(1, 40 - len(title) // 2, title, colour="white"),
                Part(1, 64, self._now().strftime("%d/%m/%y  %H:%M"), colour="blue")]
        foot = [Part(23, 2, keys, colour="blue")]
        return View((*head, *parts, *foot, *((Part(24, 2, message, colour="white"),) if message else ())))

    def _sign_on(self, device: str, message: str) -> Generator[View, Pressed, str]:
        view = self._view("BD0001", "Berth Desk", [
            Part(6, 20, "Larkmere Waterways, southern basin"), Part(6, 60, device, colour="turquoise"),
            Part(9, 20, "User . . . . . . ."), Part(9, 42, "", protected=False, length=10, cursor=True, monocase=True),
            Part(10, 20, "Password . . . . ."), Part(10, 42, "", protected=False, length=12, hidden=True)], "F3 Out", message)
        error = ""
        while True:
            pressed = yield View(error=error) if error else view
            error = ""
            if pressed.key != "Enter":
                continue
            user = typed(pressed, 9, 42).upper()
            error = self._accounts.sign_on(user, typed(pressed, 10, 42), device)
            if not error:
                return user

    def _menu(self, user: str) -> Generator[View, Pressed, str]:
        error = ""
        view = self._view("BD0100", "What do you need?", [
            Part(5, 12, "Quays and moorings of the southern basin", colour="white"),
            Part(8, 14, "B", colour="yellow"), Part(8, 18, "one berth, with its bookings"),
            Part(9, 14, "L", colour="yellow"), Part(9, 18, "the list of all berths"),
            Part(11, 14, "E", colour="yellow"), Part(11, 18, "end of work"),
            Part(17, 14, "Your choice"), Part(17, 28, "", protected=False, length=1, cursor=True, monocase=True),
            Part(2, 64, f"Desk of {user}", colour="blue")], "F3 End of work")
        while True:
            pressed = yield View(error=error) if error else view
            error = ""
            if pressed.key == IDLE:
                return IDLE
            choice = typed(pressed, 17, 28).upper()
            if pressed.key == "F3" or choice == "E":
                return "F3"
            left = ""
            if pressed.key in ("Enter", "F12", "Clear") and not choice:
                continue
            if pressed.key != "Enter":
                error = f"{pressed.key} does nothing here."
            elif choice == "B":
                left = yield from self._ask()
            elif choice == "L":
                left = yield from self._list()
            else:
                error = f"There is no choice {choice}."
            if left == IDLE:
                return IDLE

    def _ask(self) -> Generator[View, Pressed, str]:
        error = ""
        view = self._view("BD0210", "One Berth", [
            Part(5, 2, "Which one?", colour="blue"),
            Part(7, 2, "Berth  . . . . . . ."), Part(7, 25, "", protected=False, length=8, cursor=True, monocase=True),
            Part(7, 36, "its code, like ALDE-1", colour="blue")], "F3 Out   F12 Back")
        while True:
            pressed = yield View(error=error) if error else view
            error = ""
            if pressed.key in _LEFT:
                return pressed.key
            code = typed(pressed, 7, 25).upper()
            berth = self._file.berth(code)
            if not code:
                error = "Type the code of a berth."
            elif berth is None:
                error = f"Berth {code} not found."
            elif (left := (yield from self._show(berth))) in (IDLE, "F3"):
                return left

    def _show(self, berth: Berth) -> Generator[View, Pressed, str]:
        page, error = 0, ""
        while True:
            rows = berth.bookings[page * ROWS:(page + 1) * ROWS]
            more = (page + 1) * ROWS < len(berth.bookings)
            parts = [Part(4, 2, "Berth  . . . . . . . :"), Part(4, 27, berth.code, colour="turquoise"),
                     Part(5, 2, "Place  . . . . . . . :"), Part(5, 27, berth.place, colour="turquoise"),
                     Part(6, 2, "Metres . . . . . . . :"), Part(6, 27, f"{berth.metres:>8}", colour="turquoise"),
                     Part(7, 2, "Kind of mooring  . . :"), Part(7, 27, berth.kind, colour="turquoise"),
                     Part(8, 2, "Daily rate . . . . . :"), Part(8, 27, f"{berth.rate:>8}", colour="yellow"),
                     Part(10, 2, "From        To          Vessel", colour="white")]
            for row, one in enumerate(rows, 11):
                parts.append(Part(row, 2, f"{one.start:%Y-%m-%d}  {one.end:%Y-%m-%d}  {one.registration}"))
            parts.append(Part(21, 68, "more below" if more else "end of list", colour="white"))
            if not berth.bookings:
                parts.append(Part(11, 2, "(No bookings)", colour="pink"))
            pressed = yield View(error=error) if error else self._view("BD0220", "Berth and Bookings", parts, "F3 Out   F12 Back")
            error = ""
            if pressed.key in _LEFT:
                return pressed.key
            if pressed.key == "PageDown":
                page, error = (page + 1, "") if more else (page, "These are the last bookings.")
            elif pressed.key == "PageUp":
                page, error = (page - 1, "") if page else (0, "These are the first bookings.")

    def _list(self) -> Generator[View, Pressed, str]:
        """Every berth, from a code on; S shows one."""
        first, page = "", 0
        while True:
            berths = self._file.from_code(first)[page * ROWS:(page + 1) * ROWS + 1]
            parts = [Part(3, 2, "From the code  . . ."), Part(3, 25, "", protected=False, length=8, cursor=True, monocase=True),
                     Part(5, 2, "Mark one with S to see it.", colour="blue"),
                     Part(8, 2, "     Code      Place             Kind", colour="white")]
            for row, one in enumerate(berths[:ROWS], 10):
                parts += [Part(row, 3, "", protected=False, length=1), Part(row, 7, f"{one.code:<8}  {one.place:<16}  {one.kind}")]
            parts.append(Part(21, 68, "more below" if len(berths) > ROWS else "end of list", colour="white"))
            pressed = yield self._view("BD0110", "All Berths", parts, "F3 Out   F12 Back")
            if pressed.key in _LEFT:
                return pressed.key
            wanted = typed(pressed, 3, 25).upper()
            if wanted:
                first, page = wanted, 0
            elif pressed.key == "PageDown" and len(berths) > ROWS:
                page += 1
            elif pressed.key == "PageUp":
                page = max(0, page - 1)
            elif pressed.key == "Enter":
                chosen = next((one for row, one in enumerate(berths[:ROWS], 10) if typed(pressed, row, 3).upper() == "S"), None)
                if chosen is not None and (left := (yield from self._show(chosen))) in (IDLE, "F3"):
                    return left
