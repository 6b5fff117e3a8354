"""Hosts of 5250 terminals."""

from bricola.adapters.engines.door import Door
from bricola.adapters.engines.terminals.door import checkers, session_kinds
from bricola.core.definitions.engines.tn5250 import ENGINE
from bricola.core.terminals.terminal import Terminal
from bricola.core.terminals.tn5250 import Tn5250


def _protocol(terminal: Terminal) -> str:
    return "TN5250"


DOOR = Door(ENGINE, session_kinds(Tn5250, _protocol), checkers(Tn5250, _protocol))
