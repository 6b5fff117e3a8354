"""PostgreSQL."""

from bricola.core.definitions.engines.engine import Dialect, Engine, Family
from bricola.core.definitions.engines.places import DatabaseName, PasswordProof, RequestMarks, ServerPlaces, SignOn, Statements, Writing
from bricola.core.definitions.engines.servers import RULES, findings

ENGINE = Engine(
    "postgresql", "PostgreSQL", Family.DATABASE,
    (ServerPlaces, DatabaseName, SignOn, PasswordProof, Writing, RequestMarks, Statements), dialect=Dialect(), rules=RULES,
    findings=findings,
)
