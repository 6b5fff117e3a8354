"""The ledger: a 3270 application with sign-on, menu, vessel enquiry, and a list of passages over many pages."""

from collections.abc import Callable, Generator
from datetime import datetime

from bricola.core.terminals.host import Part, Pressed
from bricola.demo.hosts.application import IDLE, Accounts, Application, View, amount, day, typed
from bricola.demo.hosts.records import LedgerAccount, LedgerFile, LedgerLine

ROWS = 15  # of the list on one screen
_FIRST = 8
_INACTIVE = "SESSION ENDED - NO KEY FOR TOO LONG"


class Ledger:
    """Makes one application for each terminal. `now` gives the host's local time."""

    def __init__(self, file: LedgerFile, accounts: Accounts, now: Callable[[], datetime]) -> None:
        self._file, self._accounts, self._now = file, accounts, now

    def session(self, device: str) -> Application:
        message = ""
        while True:
            user = yield from self._sign_on(device, message)
            try:
                ended = yield from self._menu(user, device)
            finally:
                self._accounts.sign_off(user, device)
            message = _INACTIVE if ended == IDLE else f"{user} IS SIGNED OFF"

    def _view(self, identity: str, title: str, parts: list[Part], message: str = "", keys: str = "", user: str = "",
              bad: bool = True) -> View:
        head = [Part(1, 2, identity, colour="blue"), Part(1, 40 - len(title) // 2, title, colour="white", intensified=True),
                Part(1, 64, self._now().strftime("%d/%m/%y  %H:%M"), colour="blue"),
                Part(2, 2, "Larkmere Waterways", colour="blue")]
        if user:
            head.append(Part(2, 64, f"Clerk {user}", colour="blue"))
        foot = [Part(23, 2, message, intensified=True, colour="red" if bad else "yellow")] if message else []
        if keys:
            foot.append(Part(24, 2, keys, colour="blue"))
        return View((*head, *parts, *foot), alarm=bool(message) and bad)

    def _sign_on(self, device: str, message: str) -> Generator[View, Pressed, str]:
        while True:
            pressed = yield self._view("LKM000", "L O C K M A S T E R", [
                Part(6, 20, "Sign on to the passage ledger", colour="white"), Part(6, 60, device, colour="turquoise"),
                Part(10, 20, "User ID  . . . ."), Part(10, 38, "", protected=False, length=8, cursor=True),
                Part(11, 20, "Password . . . ."), Part(11, 38, "", protected=False, length=12, hidden=True)], message, "PF3 Leave")
            if pressed.key != "Enter":
                message = ""
                continue
            user = typed(pressed, 10, 38).upper()
            message = self._accounts.sign_on(user, typed(pressed, 11, 38), device)
            if not message:
                return user

    def _menu(self, user: str, device: str) -> Generator[View, Pressed, str]:
        message = ""
        while True:
            pressed = yield self._view("LKM100", "M A I N   M E N U", [
                Part(6, 20, "1  Vessel enquiry and passage ledger"), Part(7, 20, "2  Tolls of the day"), Part(9, 20, "9  Sign off"),
                Part(12, 20, "Option . . . . ."), Part(12, 38, "", protected=False, numeric=True, length=1, cursor=True),
                Part(14, 20, "Type a number and press Enter.", colour="turquoise")], message, "PF3 Sign off", user)
            message = ""
            if pressed.key == IDLE:
                return IDLE
            option = typed(pressed, 12, 38)
            if pressed.key == "PF3" or option == "9":
                return "PF3"
            if pressed.key != "Enter":
                message = "" if pressed.key in ("Clear", "PF12") else "THIS KEY DOES NOTHING HERE"
            elif option == "1":
                if (yield from self._enquiry(user)) == IDLE:
                    return IDLE
            elif option == "2":
                message = "THE TOLLS OF THE DAY ARE PRINTED AT NIGHT"
            elif option:
                message = f"THERE IS NO OPTION {option}"

    def _enquiry(self, user: str) -> Generator[View, Pressed, str]:
        message, asked = "", ""
        while True:
            pressed = yield self._view("LKM200", "V E S S E L   E N Q U I R Y", [
                Part(5, 10, "Registration . . :"), Part(5, 30, asked, protected=False, length=7, cursor=True, modified=bool(asked)),
                Part(7, 10, "Type the registration as it is painted on the hull, like LK-0412.", colour="turquoise")],
                message, "Enter Show   PF3 Back   PF12 Menu", user)
            message = ""
            if pressed.key in (IDLE, "PF3", "PF12", "Clear"):
                return pressed.key
            asked = typed(pressed, 5, 30).upper()
            if not asked:
                message = "TYPE A REGISTRATION"
                continue
            account = self._file.account(asked)
            if account is None:
                message = f"VESSEL {asked} IS NOT ON FILE"
                continue
            left = yield from self._ledger(user, account)
            if left in (IDLE, "PF12", "Clear"):
                return left

    def _ledger(self, user: str, account: LedgerAccount) -> Generator[View, Pressed, str]:
        page, message = 0, ""
        pages = max(1, -(-len(account.lines) // ROWS))
        while True:
            lines = account.lines[page * ROWS:(page + 1) * ROWS]
            more = page + 1 < pages
            parts = [
                Part(4, 2, "Vessel . . . . :"), Part(4, 19, account.registration, colour="turquoise"),
                Part(4, 34, "Name . . :"), Part(4, 46, account.name, colour="turquoise"),
                Part(5, 2, "Account  . . . :"), Part(5, 19, account.status.upper(), colour="turquoise"),
                Part(5, 34, "Due  . . :"), Part(5, 46, f"{amount(account.due):>12}", colour="yellow"),
                Part(6, 2, "Last passage . :"),
                Part(6, 19, account.lines[0].passed_on.strftime("%d/%m/%y") if account.lines else "", colour="turquoise"),
                Part(7, 2, "Sel  Passed on   Lock  Dir      Tonnes         Toll   Passage", colour="white"),
            ]
            for row, line in enumerate(lines, _FIRST):
                parts += [Part(row, 4, "", protected=False, length=1, cursor=row == _FIRST), Part(row, 8, _line(line), colour="green")]
            parts.append(Part(23, 70, "More ... +" if more else "Bottom", colour="white"))
            said = message or ("" if account.lines else "NO PASSAGES ON FILE")
            pressed = yield self._view("LKM210", "P A S S A G E   L E D G E R", parts, said,
                                       "PF3 Back   PF7 Backward   PF8 Forward   PF12 Menu   X shows a passage", user, bool(message))
            message = ""
            if pressed.key in (IDLE, "PF3", "PF12", "Clear"):
                return pressed.key
            if pressed.key == "PF8":
                if more:
                    page += 1
                else:
                    message = "THIS IS THE LAST PAGE"
            elif pressed.key == "PF7":
                page = max(0, page - 1)
            elif pressed.key == "Enter":
                chosen = next((line for row, line in enumerate(lines, _FIRST) if typed(pressed, row, 4).upper() == "X"), None)
                if chosen is None:
                    message = "TYPE X BESIDE A PASSAGE" if pressed.fields else ""
                elif (left := (yield from self._detail(user, account, chosen))) in (IDLE, "PF12", "Clear"):
                    return left
            else:
                message = "THIS KEY DOES NOTHING HERE"

    def _detail(self, user: str, account: LedgerAccount, line: LedgerLine) -> Generator[View, Pressed, str]:
        while True:
            pressed = yield self._view("LKM215", "O N E   P A S S A G E", [
                Part(5, 10, "Passage  . . . :"), Part(5, 28, line.number, colour="turquoise"),
                Part(6, 10, "Vessel . . . . :"), Part(6, 28, f"{account.registration}  {account.name}", colour="turquoise"),
                Part(7, 10, "Lock . . . . . :"), Part(7, 28, f"{line.lock:02}", colour="turquoise"),
                Part(8, 10, "Direction  . . :"), Part(8, 28, "UP" if line.direction == "U" else "DOWN", colour="turquoise"),
                Part(9, 10, "Tonnes . . . . :"), Part(9, 28, amount(line.tonnes), colour="turquoise"),
                Part(10, 10, "Toll . . . . . :"), Part(10, 28, amount(line.toll), colour="yellow")], "", "PF3 Back   PF12 Menu", user)
            if pressed.key in (IDLE, "PF3", "PF12", "Clear"):
                return pressed.key


def _line(line: LedgerLine) -> str:
    return (f"{day(datetime.combine(line.passed_on, datetime.min.time()))}     {line.lock:02}    {line.direction}  "
            f"{amount(line.tonnes):>12} {amount(line.toll):>12}   {line.number}")
