"""MariaDB."""

from bricola.core.definitions.engines.engine import Dialect, Engine, Family
from bricola.core.definitions.engines.places import DatabaseName, PasswordProof, RequestMarks, ServerPlaces, SignOn, Statements, Writing
from bricola.core.definitions.engines.servers import RULES, findings

ENGINE = Engine(
    "mariadb", "MariaDB", Family.DATABASE, (ServerPlaces, DatabaseName, SignOn, PasswordProof, Writing, RequestMarks, Statements),
    dialect=Dialect(compares_rows=False),  # it finds a place in an index by the long form only
    rules=RULES, findings=findings,
)
