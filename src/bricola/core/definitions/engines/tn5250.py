"""Hosts of 5250 terminals over telnet (RFC 1205, RFC 4777)."""

from bricola.core.definitions.engines.engine import Engine, Family
from bricola.core.definitions.engines.places import ServerPlaces, SignOn, Writing
from bricola.core.definitions.engines.terminals import RULES, TerminalBackend, TerminalPlaces, findings, is_film, signs_on

ENGINE = Engine("tn5250", "5250 host", Family.TERMINAL_HOST, (ServerPlaces, SignOn, Writing, TerminalPlaces), TerminalBackend,
                needs_sign_on=signs_on, stands_in=is_film, rules=RULES, findings=findings)
