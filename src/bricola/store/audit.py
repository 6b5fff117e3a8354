"""The audit trail: who changed what, from what, to what. Rows are only ever added."""

import json
from dataclasses import dataclass
from typing import Any

from bricola.core.sql.statements import like_literal
from bricola.store.database import Db, timestamp


@dataclass(frozen=True)
class AuditEntry:
    id: int
    at: str
    who: str
    action: str
    subject: str
    before: Any
    after: Any


def add_entry(db: Db, who: str, action: str, subject: str, before: Any, after: Any) -> None:
    db.execute("INSERT INTO audit (at, who, action, subject, before, after) VALUES (?,?,?,?,?,?)",
               (timestamp(), who, action, subject, json.dumps(before), json.dumps(after)))


def entries(db: Db, subject: str = "", who: str = "", before: int | None = None,
            limit: int = 100) -> list[AuditEntry]:
    """The newest first; `subject` matches its beginning, like 'caller' or 'caller night-batch'."""
    clauses, parameters = ["1"], list[object]()
    if subject:
        clauses.append("(subject = ? OR subject LIKE ? ESCAPE '!')")
        parameters += [subject, like_literal(subject) + " %"]
    if who:
        clauses.append("who = ?")
        parameters.append(who)
    if before is not None:
        clauses.append("id < ?")
        parameters.append(before)
    rows = db.execute("SELECT id, at, who, action, subject, before, after FROM audit"
                      f" WHERE {' AND '.join(clauses)} ORDER BY id DESC LIMIT ?", (*parameters, limit))
    return [AuditEntry(number, at, person, action, one, json.loads(old), json.loads(new))
            for number, at, person, action, one, old, new in rows]
