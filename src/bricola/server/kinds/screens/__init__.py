"""Screen flows in a running service: recordings, films with their checks, and the live terminal."""

from bricola.core.kinds.screens.kind import SCREEN_FLOW
from bricola.server.kinds.kind import KindServer
from bricola.server.kinds.screens import routes
from bricola.server.kinds.screens.films import check_due, facts, prepare, unsound

SCREENS = KindServer(SCREEN_FLOW, (routes.router,), facts=facts, chore=check_due, unsound=unsound, prepare=prepare,
                     nothing_beside=("What a host shows has no row that Bricola can read beside it.", ""))
