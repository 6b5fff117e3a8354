"""Routines in a running service."""

from bricola.core.kinds.routines.kind import ROUTINE
from bricola.server.kinds.kind import KindServer
from bricola.server.kinds.routines.routes import router

ROUTINES = KindServer(ROUTINE, routers=(router,), nothing_beside=("Only the routine knows what stands behind its answer.", ""))
