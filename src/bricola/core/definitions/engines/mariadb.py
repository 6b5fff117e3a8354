"""MariaDB."""

from bricola.core.definitions.engines.engine import Dialect, Engine, Family
from bricola.core.definitions.engines.places import DatabaseName, PasswordProof, RequestMarks, ServerPlaces, SignOn, Statements, Writing
from bricola.core.definitions.engines.servers import RULES, findings

ENGINE = Engine(
    "mariadb", "MariaDB", Family.DATABASE, (ServerPlaces, DatabaseName, SignOn, PasswordProof, Writing, RequestMarks, Statements),
    dialect=Dialect(  # it finds a place in an index by the long form only
        compares_rows=False,
        texts={None: "CAST({0} AS CHAR)", bytes: "HEX({0})", int: "CAST({0} + 0 AS CHAR)", bool: "CAST({0} + 0 AS CHAR)"},
        routines="variables"),
    port=3306,
    rules=RULES, findings=findings,
)
