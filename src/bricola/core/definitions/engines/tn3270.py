"""Hosts of 3270 terminals over telnet (RFC 1576, RFC 2355)."""

from bricola.core.definitions.engines.engine import Engine, Family
from bricola.core.definitions.engines.places import ServerPlaces, SignOn, Writing
from bricola.core.definitions.engines.terminals import RULES, TerminalBackend, TerminalPlaces, findings, is_film, signs_on

ENGINE = Engine("tn3270", "3270 host", Family.TERMINAL_HOST, (ServerPlaces, SignOn, Writing, TerminalPlaces), TerminalBackend,
                needs_sign_on=signs_on, stands_in=is_film, rules=RULES, findings=findings)
