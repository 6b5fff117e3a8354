"""Hosts of 3270 terminals."""

from bricola.adapters.engines.door import Door
from bricola.adapters.engines.terminals.door import checkers, session_kinds
from bricola.core.definitions.engines.tn3270 import ENGINE
from bricola.core.terminals.terminal import Terminal
from bricola.core.terminals.tn3270 import Tn3270


def _protocol(terminal: Terminal) -> str:
    return "TN3270E" if getattr(terminal, "extended", False) else "TN3270"


DOOR = Door(ENGINE, session_kinds(Tn3270, _protocol), checkers(Tn3270, _protocol))
