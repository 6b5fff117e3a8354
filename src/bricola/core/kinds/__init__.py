"""The kinds of source, a folder each. A further kind is a folder here and a line below."""

from bricola.core.kinds.contracts.kind import CONTRACT
from bricola.core.kinds.objects.kind import OBJECT
from bricola.core.kinds.programs.kind import PROGRAM
from bricola.core.kinds.queries.kind import QUERY
from bricola.core.kinds.registry import register
from bricola.core.kinds.relays.kind import RELAY
from bricola.core.kinds.routines.kind import ROUTINE
from bricola.core.kinds.screens.kind import SCREEN_FLOW
from bricola.core.kinds.workflows.kind import WORKFLOW

for _kind in (OBJECT, QUERY, ROUTINE, SCREEN_FLOW, PROGRAM, CONTRACT, RELAY, WORKFLOW):
    register(_kind)
