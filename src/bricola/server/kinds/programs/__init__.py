"""Programs in a running service."""

from bricola.core.kinds.programs.kind import PROGRAM
from bricola.server.kinds.kind import KindServer
from bricola.server.kinds.programs.importing import not_offered
from bricola.server.kinds.programs.routes import router

PROGRAMS = KindServer(PROGRAM, routers=(router,), prepare=not_offered,
                      nothing_beside=("Only the program knows what stands behind its answer.", ""))
