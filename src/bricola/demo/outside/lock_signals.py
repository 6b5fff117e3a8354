"""The signals of the locks, simulated: keepers are told which vessel comes, over plain HTTP with JSON.

    POST   /signals/announcements            {"lock": 7, "registration": "LK-0412", "direction": "up", "at": "…"}
                                             -> 201 {"ticket", "position"}
    GET    /signals/locks/7                  -> 200 {"lock": 7, "waiting": 2, "tickets": […]}
    DELETE /signals/announcements/A-000001   -> 204, or 404

Whoever calls presents a bearer token. It keeps what it was told in memory, and knows nothing of Bricola.
"""

import json
import threading
from typing import Any

from bricola.demo.outside.web import Answer, Headers, WebService

PLACE = "/signals"
_LOCKS = range(1, 25)
_MOST = 5_000  # announcements that are kept


class LockSignals(WebService):
    def __init__(self, token: str, delay: float = 0.0) -> None:
        super().__init__(delay)
        self._token = token
        self._lock = threading.Lock()
        self._announced: dict[str, dict[str, Any]] = {}
        self._number = 0

    def respond(self, method: str, path: str, header: Headers, body: bytes) -> Answer:
        if header("Authorization") != f"Bearer {self._token}":
            return Answer(401)
        steps = path.removeprefix(PLACE).strip("/").split("/")
        if method == "OPTIONS" or not steps[0]:
            return Answer(204)
        with self._lock:
            if method == "POST" and steps == ["announcements"]:
                return self._announce(body)
            if method == "DELETE" and len(steps) == 2 and steps[0] == "announcements":
                return Answer(204) if self._announced.pop(steps[1], None) is not None else _json(404, {"error": "no such announcement"})
            if method == "GET" and len(steps) == 2 and steps[0] == "locks" and steps[1].isdigit():
                tickets = [ticket for ticket, one in self._announced.items() if one["lock"] == int(steps[1])]
                return _json(200, {"lock": int(steps[1]), "waiting": len(tickets), "tickets": tickets})
        return _json(404, {"error": "there is nothing at this path"})

    def _announce(self, body: bytes) -> Answer:
        try:
            told = json.loads(body)
            lock, vessel, direction = int(told["lock"]), str(told["registration"]), str(told["direction"])
        except (ValueError, KeyError, TypeError):
            return _json(400, {"error": "lock, registration and direction are wanted"})
        if lock not in _LOCKS or direction not in ("up", "down"):
            return _json(422, {"error": "there is no such lock or direction"})
        self._number += 1
        ticket = f"A-{self._number:06}"
        waiting = sum(1 for one in self._announced.values() if one["lock"] == lock)
        self._announced[ticket] = {"lock": lock, "registration": vessel, "direction": direction}
        while len(self._announced) > _MOST:
            self._announced.pop(next(iter(self._announced)))
        return _json(201, {"ticket": ticket, "position": waiting + 1})


def _json(status: int, content: dict[str, Any]) -> Answer:
    return Answer(status, json.dumps(content).encode(), "application/json")
