"""Queries in a running service."""

from bricola.core.kinds.queries.kind import QUERY
from bricola.server.kinds.kind import KindServer

QUERIES = KindServer(QUERY, nothing_beside=("The rows of a query are worked out; no one row stands behind them.",
                                            "Call the operation that lists the details behind them."))
