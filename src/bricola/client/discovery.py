"""What backends hold, and drafts from it."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, cast

from bricola.client.transport import ApiConnection, Json

if TYPE_CHECKING:
    from bricola.api import definitions, objects
    from bricola.api import routines as found


class DiscoveryCalls(ApiConnection):
    """The part of the management API about looking around in databases."""

    def tables(self, environment: str, backend: str, search: str = "") -> "list[objects.TableRow]":
        """Tables and views, with rows, key, what is published of them, and why one cannot be."""
        return cast("list[objects.TableRow]", self._ask("GET", f"/discovery/{environment}/{backend}", params={"search": search}))

    def table(self, environment: str, backend: str, name: str) -> "objects.TableDetail":
        """One table: columns, keys, references, proposals for children."""
        return cast("objects.TableDetail", self._ask("GET", f"/discovery/{environment}/{backend}/table", params={"name": name}))

    def draft_object(self, environment: str, backend: str, table: str, name: str = "", service: str = "", operations: Sequence[str] = (),
                     roles: Sequence[str] = (), children: Sequence[str] = (), key: Sequence[str] = (),
                     save: bool = False, zone: str = "") -> "objects.Drafted":
        """Definitions made of a table, by path; with `save` they become drafts."""
        body = {"table": table, "name": name, "service": service, "operations": list(operations), "roles": list(roles),
                "children": list(children), "key": list(key), "save": save, "zone": zone}
        return cast("objects.Drafted", self._ask("POST", f"/discovery/{environment}/{backend}", json=body))

    def publish_tables(self, environment: str, backend: str, tables: Sequence[str] = ("*",), *, except_tables: Sequence[str] = (),
                       operations: Sequence[str] = ("get", "find"), object_name: str = "{table}", service: str = "{schema}",
                       left_out: Sequence[str] = (), roles: Sequence[str] = (), zone: str = "", only: Sequence[str] | None = None,
                       rule: str = "", keep_as: str = "", save: bool = False) -> "objects.ManyDrafted":
        """Objects and operations of all tables that match, or that a kept `rule` takes: a plan, and with `save` drafts."""
        body = {"rule": rule, "tables": list(tables), "except_tables": list(except_tables), "operations": list(operations),
                "object": object_name, "service": service, "left_out": list(left_out), "roles": list(roles), "zone": zone,
                "only": None if only is None else list(only), "keep_as": keep_as, "save": save}
        return cast("objects.ManyDrafted", self._ask("POST", f"/discovery/{environment}/{backend}/many", json=body))

    def routines(self, environment: str, backend: str, search: str = "") -> "list[found.RoutineRow]":
        """Procedures and functions, with what they take and give, what is published of them, and why one cannot be."""
        path = f"/discovery/{environment}/{backend}/routines"
        return cast("list[found.RoutineRow]", self._ask("GET", path, params={"search": search}))

    def routine(self, environment: str, backend: str, name: str, signature: str | None = None) -> "found.RoutineDetail":
        """One routine; `signature` tells it from others of its name."""
        params = {"name": name} | ({"signature": signature} if signature is not None else {})
        return cast("found.RoutineDetail", self._ask("GET", f"/discovery/{environment}/{backend}/routine", params=params))

    def draft_routine(self, environment: str, backend: str, routine: str, *, signature: str | None = None, name: str = "",
                      service: str = "", operation: str = "", roles: Sequence[str] = (), zone: str = "",
                      try_with: Mapping[str, str] | None = None, save: bool = False) -> "found.RoutineDrafted":
        """The definition of a routine, by path; with `save` it becomes a draft. With `try_with`, arguments by parameter, it is called once
        and rolled back, to see what rows it gives."""
        body = {"routine": routine, "signature": signature, "name": name, "service": service, "operation": operation, "roles": list(roles),
                "zone": zone, "try_with": None if try_with is None else dict(try_with), "save": save}
        return cast("found.RoutineDrafted", self._ask("POST", f"/discovery/{environment}/{backend}/routines", json=body))

    def renew_routine(self, name: str, environment: str, *, signature: str | None = None, zone: str = "",
                      save: bool = False) -> "found.RoutineRenewed":
        """A definition brought up to what its routine is now: what differs, and who is affected; with `save` it becomes a draft."""
        body = {"signature": signature, "zone": zone, "save": save}
        return cast("found.RoutineRenewed", self._ask("PUT", f"/routines/{name}/renewal/{environment}", json=body))

    def connect_backend(self, name: str, environment: str, engine: str, binding: Json, description: str = "") -> "definitions.Changes":
        """Define a backend where it is new, and bind it in an environment."""
        body = {"name": name, "engine": engine, "description": description, "binding": binding}
        return cast("definitions.Changes", self._ask("POST", f"/environments/{environment}/backends", json=body))
