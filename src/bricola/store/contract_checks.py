"""What was found when contracts of others were looked at again."""

import json
from typing import Any

from bricola.store.database import Db, timestamp


def keep_contract_check(db: Db, contract: str, backend: str, environment: str, outcome: dict[str, Any]) -> str:
    """Replaces what was found before; answers the moment."""
    at = timestamp()
    db.execute("INSERT OR REPLACE INTO contract_check VALUES (?, ?, ?, ?, ?)",
               (contract, backend, environment, at, json.dumps(outcome, ensure_ascii=False)))
    return at


def contract_checks(db: Db) -> list[dict[str, Any]]:
    """The last check of each contract in each environment."""
    rows = db.execute("SELECT contract, backend, environment, at, outcome FROM contract_check ORDER BY contract, environment, backend")
    return [{**json.loads(outcome), "contract": contract, "backend": backend, "environment": environment, "at": at}
            for contract, backend, environment, at, outcome in rows]
