"""The server's half of the kinds of source: a folder each, where there is one, and a line below."""

from bricola.server.kinds.kind import KindServer
from bricola.server.kinds.objects import OBJECTS
from bricola.server.kinds.programs import PROGRAMS
from bricola.server.kinds.queries import QUERIES
from bricola.server.kinds.relays import RELAYS
from bricola.server.kinds.routines import ROUTINES
from bricola.server.kinds.screens import SCREENS
from bricola.server.kinds.workflows import WORKFLOWS

SERVERS: tuple[KindServer, ...] = (OBJECTS, QUERIES, ROUTINES, SCREENS, PROGRAMS, RELAYS, WORKFLOWS)
