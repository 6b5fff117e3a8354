"""Set-up, signing in and out, tokens, users."""

from typing import Annotated, Any

from fastapi import APIRouter, Request, Response
from pydantic import BaseModel, Field, StringConstraints

from bricola.api import people as answers
from bricola.api.words import Role
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.api.access import COOKIE, Admin, Running, Viewer, presented_secret
from bricola.server.api.bodies import Guarded
from bricola.server.usecases import people
from bricola.store.people import StoredUser

router = APIRouter(tags=["sessions and users"], route_class=Guarded)

PersonName = Annotated[str, StringConstraints(pattern=r"^[A-Za-z][A-Za-z0-9._@-]{0,79}$")]
Password = Annotated[str, StringConstraints(max_length=1000)]


class SignIn(BaseModel):
    name: str = Field(max_length=80)
    password: Password
    token: bool = False  # True: answer with a bearer token instead of setting a cookie


class SetUp(BaseModel):
    code: str
    name: PersonName
    password: Password


class NewUser(BaseModel):
    name: PersonName
    password: Password
    role: Role


class UserChange(BaseModel):
    role: Role | None = None
    password: Password | None = None


def _set_cookie(request: Request, response: Response, secret: str) -> None:
    response.set_cookie(COOKIE, secret, max_age=int(people.SESSION.total_seconds()), httponly=True,
                        samesite="strict", secure=request.url.scheme == "https", path="/")


@router.get("/state", response_model=answers.ServiceState)
async def state(bricola: Running) -> dict[str, Any]:
    """What anybody may know: whether the service waits for its first user."""
    return {"setup": bricola.people.setup_code is not None, "organisation": bricola.settings.organisation}


@router.post("/setup", response_model=answers.Person, status_code=201)
async def set_up(body: SetUp, request: Request, response: Response, bricola: Running) -> dict[str, Any]:
    """Make the first user with the one-time code, and sign in."""
    user = await people.set_up(bricola, body.code, body.name, body.password)
    _set_cookie(request, response, await people.open_session(bricola, user.name, "console", people.SESSION))
    return {"name": user.name, "role": user.role}


@router.post("/session", response_model=answers.SignedIn, status_code=201)
async def sign_in(body: SignIn, request: Request, response: Response, bricola: Running) -> dict[str, Any]:
    """After several wrong passwords in a row: status 429, and a pause that doubles."""
    user = await people.sign_in(bricola, body.name, body.password, request.client.host if request.client else "")
    answer = {"name": user.name, "role": user.role}
    if body.token:
        return answer | {"token": await people.open_session(bricola, user.name, "token", people.TOKEN)}
    _set_cookie(request, response, await people.open_session(bricola, user.name, "console", people.SESSION))
    return answer


@router.get("/session", response_model=answers.Who)
async def who_am_i(user: Viewer, bricola: Running) -> dict[str, Any]:
    return {"name": user.name, "role": user.role, "organisation": bricola.settings.organisation}


@router.delete("/session", status_code=204)
async def sign_out(request: Request, response: Response, bricola: Running) -> None:
    secret = presented_secret(request)
    if secret:
        await bricola.people.close_session(people.digest(secret))
    response.delete_cookie(COOKIE, path="/")


@router.get("/users", response_model=list[answers.User])
async def users(_: Admin, bricola: Running) -> list[dict[str, str]]:
    return [{"name": one.name, "role": one.role, "created_at": one.created_at}
            for one in await bricola.people.users()]


@router.post("/users", response_model=answers.Person, status_code=201)
async def add_user(body: NewUser, user: Admin, bricola: Running) -> dict[str, str]:
    await people.add_user(bricola, body.name, body.role, body.password, user.name)
    return {"name": body.name, "role": body.role}


@router.patch("/users/{name}", status_code=204)
async def change_user(name: str, body: UserChange, user: Admin, bricola: Running) -> None:
    """Another role or password. A new password ends the user's sessions."""
    await people.change_user(bricola, name, body.role, body.password, user.name)


@router.delete("/users/{name}", status_code=204)
async def remove_user(name: str, user: Admin, bricola: Running) -> None:
    await people.remove_user(bricola, name, user.name)


@router.get("/users/{name}/sessions", response_model=list[answers.UserSession])
async def sessions(name: str, user: Viewer, bricola: Running) -> list[dict[str, str]]:
    """A user's sign-ins: one's own, or anybody's for an admin."""
    _own_or_admin(user, name)
    return [{"session": number, "label": label, "created_at": created, "expires_at": expires}
            for number, label, created, expires in await bricola.people.sessions(name)]


@router.delete("/users/{name}/sessions/{session}", status_code=204)
async def end_session(name: str, session: str, user: Viewer, bricola: Running) -> None:
    _own_or_admin(user, name)
    await people.end_session(bricola, name, session, user.name)


def _own_or_admin(user: StoredUser, name: str) -> None:
    if user.name != name and user.role != "admin":
        raise ProblemError(Problem("user.role", "Only an admin sees the sign-ins of others.", Kind.PERMISSION, found=user.role))
