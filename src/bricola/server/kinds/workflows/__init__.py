"""Workflows in a running service: what people who write them look at."""

from bricola.core.kinds.workflows.kind import WORKFLOW
from bricola.server.kinds.kind import KindServer
from bricola.server.kinds.workflows import routes

WORKFLOWS = KindServer(WORKFLOW, (routes.router,), nothing_beside=("An answer of a workflow comes from several steps.",
                                                                   "Look at its trace: bricola trace CALL"))
