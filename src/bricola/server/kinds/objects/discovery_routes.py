"""Looking around in a backend's database, and drafting definitions from what is there."""

from typing import Annotated, Any, Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from bricola.api import definitions as definitions_answers
from bricola.api import objects as answers
from bricola.api.words import Role
from bricola.core.definitions.model import EngineWord
from bricola.server.api.access import Integrator, Running
from bricola.server.api.bodies import Guarded
from bricola.server.api.callers import Word
from bricola.server.kinds.objects import discovery, many
from bricola.server.usecases import connecting

router = APIRouter(tags=["discovery"], route_class=Guarded)

Text = Annotated[str, Field(max_length=200)]


class ObjectWish(BaseModel):
    """What is wanted of a table: names, the operations ticked, who may call, tables of children, a key, and the zone of
    moments that do not say theirs."""

    table: Text
    name: Text = ""
    service: Text = ""
    operations: list[Text] = []
    roles: list[Text] = []
    children: list[Text] = []
    key: list[Text] = []
    zone: Literal["", "utc", "local"] = ""
    save: bool = False


class ManyTables(BaseModel):
    """A rule that is kept (`rule`), or one that is said here; `only` are the tables that were ticked. With `keep_as` it is kept under that
    name."""

    rule: Text = ""
    tables: list[Text] = ["*"]
    except_tables: list[Text] = []
    operations: list[Text] = ["get", "find"]
    object: Text = "{table}"
    service: Text = "{schema}"
    left_out: list[Text] = []
    roles: list[Word] = []
    zone: Literal["", "utc", "local"] = ""
    only: list[Text] | None = None
    keep_as: Text = ""
    save: bool = False


class BindingBody(BaseModel):
    """Where a backend is, as in the binding of an environment."""

    file: Text = ""
    address: Text = ""
    database: Text = ""
    credential: Text = ""
    tls: Literal["off", "encrypt", "verify"] = "off"
    read_only: bool = False
    devices: list[Text] = []


class NewBackend(BaseModel):
    name: Word
    engine: EngineWord
    description: Text = ""
    binding: BindingBody


@router.get("/discovery/{environment}/{backend}", response_model=list[answers.TableRow])
async def tables(environment: str, backend: str, _: Integrator, bricola: Running, search: str = "") -> list[dict[str, Any]]:
    """Tables and views, narrowed by parts of names and comments."""
    return await discovery.tables(bricola, environment, backend, search)


@router.get("/discovery/{environment}/{backend}/table", response_model=answers.TableDetail)
async def table(environment: str, backend: str, name: str, _: Integrator, bricola: Running) -> dict[str, Any]:
    """One table: columns, keys, references, proposals for children."""
    return await discovery.table(bricola, environment, backend, name)


@router.post("/discovery/{environment}/{backend}/many", response_model=answers.ManyDrafted)
async def publish_many(environment: str, backend: str, body: ManyTables, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Make objects and operations of all tables that a rule takes; tells what it would do, and saves it as drafts when asked."""
    said = body.model_dump(exclude={"rule", "only", "keep_as", "save"})
    rule = many.rule_of(bricola, body.rule) if body.rule else many.read_rule(body.keep_as or "tables", backend, said)
    return await many.publish_many(bricola, environment, rule, body.only, bool(body.keep_as), body.save, user.name)


@router.post("/discovery/{environment}/{backend}", response_model=answers.Drafted)
async def draft_object(environment: str, backend: str, body: ObjectWish, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Make an object, and a service where one is named, of a table; saved as drafts when asked."""
    return await discovery.draft_object(
        bricola, environment, backend, body.table, body.model_dump(exclude={"table", "save"}), body.save, user.name
    )


@router.post("/environments/{environment}/backends", response_model=definitions_answers.Changes, status_code=201)
async def connect(environment: str, body: NewBackend, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Define a backend where it is new, and bind it here. Takes effect at once."""
    return await connecting.connect(bricola, body.name, environment, body.engine, body.binding.model_dump(), body.description, user.name,
                                    user.role == Role.ADMIN)
