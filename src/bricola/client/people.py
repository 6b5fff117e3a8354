"""Users, callers, roles, tokens and the audit trail."""

from typing import TYPE_CHECKING, Any, Literal, cast

from bricola.client.transport import ApiConnection

if TYPE_CHECKING:
    from bricola.api import people


class PeopleCalls(ApiConnection):
    """The part of the management API about people and callers."""

    def state(self) -> "people.ServiceState":
        """Whether the service waits for its first user; needs no token."""
        return cast("people.ServiceState", self._ask("GET", "/state"))

    def set_up(self, code: str, name: str, password: str) -> None:
        """Make the first user, with the one-time code of the first start."""
        self._ask("POST", "/setup", json={"code": code, "name": name, "password": password})

    def sign_in(self, name: str, password: str) -> str:
        """Get a token of 90 days and use it from now on."""
        token = str(self._ask("POST", "/session", json={"name": name, "password": password, "token": True})["token"])
        self.use_token(token)
        return token

    def use_token(self, token: str) -> None:
        """Go on as whoever has this token."""
        self._http.headers["Authorization"] = f"Bearer {token}"

    def who(self) -> "people.Who":
        return cast("people.Who", self._ask("GET", "/session"))

    def users(self) -> "list[people.User]":
        return cast("list[people.User]", self._ask("GET", "/users"))

    def add_user(self, name: str, password: str, role: str) -> None:
        self._ask("POST", "/users", json={"name": name, "password": password, "role": role})

    def change_user(self, name: str, role: str | None = None, password: str | None = None) -> None:
        self._ask("PATCH", f"/users/{name}", json={"role": role, "password": password})

    def remove_user(self, name: str) -> None:
        self._ask("DELETE", f"/users/{name}")

    def sessions(self, user: str) -> "list[people.UserSession]":
        return cast("list[people.UserSession]", self._ask("GET", f"/users/{user}/sessions"))

    def end_session(self, user: str, session: str) -> None:
        self._ask("DELETE", f"/users/{user}/sessions/{session}")

    def callers(self) -> "list[people.Caller]":
        return cast("list[people.Caller]", self._ask("GET", "/callers"))

    def save_caller(self, name: str, roles: list[str], description: str = "", networks: list[str] | None = None,
                    per_minute: int | None = None, parallel: int | None = None) -> None:
        """Add a caller or replace what is known of it. Networks in CIDR form; None for no limit."""
        body = {"roles": roles, "description": description, "networks": networks or [], "per_minute": per_minute, "parallel": parallel}
        self._ask("PUT", f"/callers/{name}", json=body)

    def access(self) -> "list[people.PlaceGrants]":
        """Who may call what where."""
        return cast("list[people.PlaceGrants]", self._ask("GET", "/access"))

    def grant(self, environment: str, service: str, role: str, operations: "Literal['all'] | list[str]" = "all",
              plan_only: bool = False) -> "people.Granted":
        """Let a role call these operations of a service in an environment, and no others; an empty list takes all away."""
        body = {"operations": operations, "plan_only": plan_only}
        return cast("people.Granted", self._ask("PUT", f"/access/{environment}/{service}/{role}", json=body))

    def move_access(self, plan_only: bool = False) -> "people.Granted":
        """Say in environments what services state for themselves."""
        return cast("people.Granted", self._ask("POST", "/access/move", json={"plan_only": plan_only}))

    def remove_caller(self, name: str) -> None:
        self._ask("DELETE", f"/callers/{name}")

    def new_token(self, caller: str, days: float | None = None) -> str:
        """A new token of a caller, shown here and never again; its other tokens stay valid."""
        return str(self._ask("POST", f"/callers/{caller}/tokens", json={"days": days})["token"])

    def rotate_token(self, caller: str, overlap_hours: float = 24.0, days: float | None = None) -> "people.NewToken":
        """A new token; the caller's other tokens end after the overlap."""
        return cast("people.NewToken", self._ask("POST", f"/callers/{caller}/tokens", json={"days": days, "overlap_hours": overlap_hours}))

    def revoke_token(self, caller: str, prefix: str) -> None:
        self._ask("DELETE", f"/callers/{caller}/tokens/{prefix}")

    def roles(self) -> "list[people.RoleGrants]":
        return cast("list[people.RoleGrants]", self._ask("GET", "/roles"))

    def audit(self, subject: str = "", who: str = "", before: int | None = None, limit: int = 100) -> "list[people.AuditEntry]":
        """Who changed what, the newest first; `subject` like 'caller' or 'caller night-batch'."""
        params: dict[str, Any] = {"subject": subject, "who": who, "limit": limit} | ({} if before is None else {"before": before})
        return cast("list[people.AuditEntry]", self._ask("GET", "/audit", params=params))
