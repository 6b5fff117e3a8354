"""PostgreSQL."""

from bricola.core.definitions.engines.engine import Dialect, Engine, Family
from bricola.core.definitions.engines.places import DatabaseName, PasswordProof, RequestMarks, ServerPlaces, SignOn, Statements, Writing
from bricola.core.definitions.engines.servers import RULES, findings

ENGINE = Engine(
    "postgresql", "PostgreSQL", Family.DATABASE,
    (ServerPlaces, DatabaseName, SignOn, PasswordProof, Writing, RequestMarks, Statements),
    dialect=Dialect(texts={  # a cast would take the blanks from the end of a CHAR(n)
        None: "CAST({0} AS TEXT)", bytes: "encode({0}, 'hex')", str: "CASE WHEN {0} IS NULL THEN NULL ELSE concat({0}) END"},
        routines="named"),
    port=5432,
    rules=RULES,
    findings=findings,
)
