"""`start`: from an empty service to a first answered call, question by question. What is there already is not asked for again."""

import getpass
import os
import sys
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, Any
from urllib.parse import parse_qs, urlsplit

import typer

from bricola.cli.connection import DEFAULT_URL
from bricola.cli.output import out, print_answer, print_problems, table, text
from bricola.client import Client, ServiceClient
from bricola.client.signins import load_signins, save_signin
from bricola.core.definitions.engines import ENGINES
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.definitions.names import kebab_case, pascal_case
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.problems import Kind, Problem, ProblemError

if TYPE_CHECKING:
    from bricola.api.objects import TableRow

_TERMINALS = {word: one for word, one in ENGINES.items() if one.family is Family.TERMINAL_HOST}
_DATABASES = {word: one for word, one in ENGINES.items() if one.family is Family.DATABASE}
_MOST_SHOWN = 30
_ATTEMPTS = 5  # at one question, before it is given up: a pipe that answers wrongly must end


def register(app: typer.Typer) -> None:
    @app.command("start", rich_help_panel="Run")
    def start(
        address: Annotated[str, typer.Argument(help="The service, or the set-up address that 'bricola serve' printed.")] = DEFAULT_URL,
    ) -> None:
        """Set a new service up, question by question: first user, environments, a backend, a table of it as a service, and a first call."""
        parts = urlsplit(address if "://" in address else f"http://{address}")
        url, code = f"{parts.scheme}://{parts.netloc}", next(iter(parse_qs(parts.query).get("code", [])), "")
        with Client(url) as client:
            _sign_in(client, url, code)
            environment = _environments(client)
            backend = _backend(client, environment)
            if not backend:
                return
            service, operation = _service(client, environment, backend)
            first_call(client, url, environment, service, operation)


# asking


def _ask(question: str, proposed: str = "") -> str:
    """An answer; Enter takes what is proposed. From a pipe it is a line."""
    shown = f"{question} [{proposed}]" if proposed else question
    out.print(f"{text(shown)}: ", end="")
    line = sys.stdin.readline()
    if not line:
        raise ProblemError(Problem("start.stopped", "The answers ended here.", place=question,
                                   mend="Run 'bricola start' again; it goes on where it was."))
    if not sys.stdin.isatty():
        out.print(text(line.strip()))
    return line.strip() or proposed


def _ask_secret(question: str) -> str:
    if sys.stdin.isatty():
        return getpass.getpass(f"{question} (not shown): ")
    out.print(f"{text(question)}: ")
    return sys.stdin.readline().rstrip("\n")


def _choose(question: str, choices: Mapping[str, str], proposed: str) -> str:
    """One of the words, or its number."""
    words = list(choices)
    out.print(", ".join(f"{number} {choices[word]}" for number, word in enumerate(words, 1)))
    for _ in range(_ATTEMPTS):
        said = _ask(question, proposed)
        if said in choices:
            return said
        if said.isdigit() and 1 <= int(said) <= len(words):
            return words[int(said) - 1]
        out.print(f"[yellow]▲[/] One of {', '.join(words)}, or its number.")
    raise ProblemError(Problem("start.choice", "None of these was chosen.", place=question, choices=tuple(words)))


# the steps


def _sign_in(client: Client, url: str, code: str) -> None:
    if client.state()["setup"]:
        out.print("[bold]1 You[/]  The service has no user yet. The first one is an administrator.")
        code = code or _ask("The code behind 'code=' in the address that 'bricola serve' printed")
        name = _ask("Your name there", _own_name())
        password = _ask_secret("A password, of at least 12 characters")
        client.set_up(code, name, password)
    else:
        known = load_signins().get(url, {})
        if known.get("token"):
            client.use_token(known["token"])
            return
        out.print("[bold]1 You[/]  The service has users; sign in as an administrator or integrator.")
        name = _ask("Your name there", _own_name())
        password = _ask_secret("Password")
    token = client.sign_in(name, password)
    save_signin(url, name, token)
    out.print(f"[green]●[/] Signed in to {text(url)} as {text(name)}; the other commands use it too.")


def _own_name() -> str:
    return "".join(one for one in (os.environ.get("USER") or "").lower() if one.isalnum() or one in "._-")


def _environments(client: Client) -> str:
    """The first environment, in which everything is tried."""
    known = [one["name"] for one in client.overview()["environments"]]
    if known:
        return known[0]
    out.print("\n[bold]2 Environments[/]  Where releases run. A release passes them in this order; the last one is protected.")
    names = [kebab_case(one.strip()) for one in _ask("Their names", "trial, live").split(",") if one.strip()]
    files = {}
    for index, name in enumerate(names):
        lines = [f"environment: {name}"]
        lines += [f"follows: {names[index - 1]}"] if index else []
        lines += ["protected: true"] if index and index == len(names) - 1 else []
        files[f"environments/{name}.yaml"] = "\n".join(lines) + "\n"
    client.apply(files)
    out.print(f"[green]●[/] {text(' and '.join(names))}")
    return names[0]


def _backend(client: Client, environment: str) -> str:
    """A database that answers; '' where it is a terminal host, which is seen at a terminal next."""
    bound = [one["backend"] for one in client.backends() if one["environment"] == environment and one["engine"] in _DATABASES]
    if bound:
        return bound[0]
    out.print(f"\n[bold]3 A backend[/]  What calls in {text(environment)} reach: a database, or a terminal host.")
    taken = {one["backend"] for one in client.backends()} | {one["name"] for one in client.credentials()}
    for attempt in range(_ATTEMPTS):
        wish = _ask_backend(taken)
        if wish.engine in _TERMINALS:
            out.print(f"Sign on there once, stop on the screen that work begins from, and leave with Ctrl X.\n"
                      f"Next: bricola terminal {text(wish.binding['address'])} --engine {wish.engine}")
            return ""
        try:
            if wish.credential:
                client.add_credential(wish.credential, wish.secret, user=wish.user)
            client.connect_backend(wish.name, environment, wish.engine, wish.binding)
            results = client.check(environment, wish.name)
        except ProblemError as error:
            print_problems(error.problems)
            results = []
        failed = next((two for one in results for two in one["stages"] if two["outcome"] == "failed"), None)
        if results and failed is None:
            told = "; ".join(two["detail"] for one in results for two in one["stages"] if two["stage"] in ("signed on", "version"))
            out.print(f"[green]●[/] {text(wish.name)} answers: {text(told)}")
            return wish.name
        if failed is not None and failed["problem"] is not None:
            problem = failed["problem"]
            out.print(f"[red]✕[/] {text(failed['stage'])}: {text(problem['message'])} {text(problem.get('found', ''))}")
            if problem.get("mend"):
                out.print(f"  mend      {text(problem['mend'])}")
        _take_back(client, environment, wish)
        if attempt + 1 < _ATTEMPTS:
            out.print("Again, with what has to be corrected.")
    raise ProblemError(Problem("start.backend", "The backend was not reached.", Kind.BACKEND,
                               mend="Run 'bricola start' again when it can be reached from here."))


@dataclass(frozen=True)
class _Wish:
    name: str
    engine: str
    binding: dict[str, str]
    credential: str = ""
    user: str = ""
    secret: str = ""


def _ask_backend(taken: Collection[str]) -> _Wish:
    """`taken` are names of backends and credentials that are somebody's work: what is made here never takes their place."""
    servers = {word: one.title for word, one in _DATABASES.items() if not one.is_file}
    files = {word: one.title for word, one in _DATABASES.items() if one.is_file}
    terminals = {word: one.title for word, one in _TERMINALS.items()}
    engine = _choose("Which kind", servers | files | terminals, next(iter(servers)))
    if engine in _TERMINALS:
        return _Wish("", engine, {"address": _ask("Its address", "127.0.0.1:23")})
    if _DATABASES[engine].is_file:
        file = _ask("Its file, below the service's data folder")
        name = kebab_case(file.rsplit("/", 1)[-1].partition(".")[0]) or "records"
        return _Wish(_ask_free("What is it called here", name, taken), engine, {"file": file})
    address = _ask("Its address", f"127.0.0.1:{_DATABASES[engine].port}")
    database = _ask("The database")
    user = _ask("The user that Bricola signs on as")
    secret = _ask_secret("The password of that user")
    name = _ask_free("What is it called here", kebab_case(database) or engine, taken)
    binding = {"address": address, "database": database, "credential": name}
    return _Wish(name, engine, binding, name, user, secret)


def _ask_free(question: str, proposed: str, taken: Collection[str]) -> str:
    for _ in range(_ATTEMPTS):
        said = _ask(question, "" if proposed in taken else proposed)
        if said and said not in taken:
            return said
        out.print(f"[yellow]▲[/] {text(said or 'Nothing')} cannot be its name: a backend or credential has it already, or there is none.")
    raise ProblemError(Problem("start.name", "No free name was said.", place=question))


def _take_back(client: Client, environment: str, wish: _Wish) -> None:
    """What could not be reached is not left behind, so that it can be said anew under the same name."""
    texts, revisions = client.export_with_revisions()
    definitions = {path: read_definition(content, path) for path, content in texts.items()}
    kept = {}
    for path, one in definitions.items():
        if isinstance(one, EnvironmentDefinition) and one.name == environment:
            one = one.model_copy(update={"backends": tuple(two for two in one.backends if two.name != wish.name)})
        if (one.kind, one.name) != ("backend", wish.name):
            kept[path] = write_definition(one)
    client.apply(kept, remove_others=True, based_on=revisions)
    if wish.credential and any(one["name"] == wish.credential for one in client.credentials()):
        client.remove_credential(wish.credential)


def _service(client: Client, environment: str, backend: str) -> tuple[str, str]:
    """A service of one table that is live, and the operation that reads its rows."""
    live = [one for one in client.overview()["services"] if any(two["environment"] == environment and "release" in two
                                                                for two in one["deployments"])]
    if live:
        return live[0]["name"], _reading(client, live[0]["name"], environment)
    out.print(f"\n[bold]4 A service[/]  A table of {text(backend)}, read by callers.")
    found = [one for one in client.tables(environment, backend) if not one["reasons"]]
    if not found:
        raise ProblemError(Problem("start.tables", f"No table of {backend} can be published as it is.", Kind.MISSING,
                                   mend=f"See why: bricola discover tables {environment} {backend}"))
    chosen = _choose_table(found)
    service = _ask("The name of the service", pascal_case(chosen["name"]))
    role = _ask("The role that may call it", "reader")
    made = client.draft_object(environment, backend, chosen["name"], service=service, operations=["get", "find"], roles=[role], save=True)
    for left in made["left_out"]:
        out.print(f"[yellow]▲[/] {text(left['column'])} is left out: messages have no type for {text(left['declared'])}.")
    client.release(service, "The first release")
    client.deploy(service, environment)
    out.print(f"[green]●[/] {text(service)} is live in {text(environment)}.")
    return service, _reading(client, service, environment)


def _choose_table(found: "Sequence[TableRow]") -> "TableRow":
    rows = [(str(number), f"[bold]{text(one['name'])}[/]", f"{one['rows']:,}" if one["rows"] is not None else "?",
             text(", ".join(one["key"])), text(one["comment"])) for number, one in enumerate(found[:_MOST_SHOWN], 1)]
    out.print(table(("", "Table", "Rows", "Key", ""), rows, right=("Rows",)))
    if len(found) > _MOST_SHOWN:
        out.print(f"and {len(found) - _MOST_SHOWN} more, by name")
    for _ in range(_ATTEMPTS):
        said = _ask("Which table, by number or name", found[0]["name"])
        chosen = next((one for one in found if one["name"] == said), None)
        if chosen is None and said.isdigit() and 1 <= int(said) <= min(len(found), _MOST_SHOWN):
            chosen = found[int(said) - 1]
        if chosen is not None:
            return chosen
        out.print(f"[yellow]▲[/] There is no table {text(said)} among them.")
    raise ProblemError(Problem("start.table", "No table was chosen.", Kind.MISSING))


def _reading(client: Client, service: str, environment: str) -> str:
    found = client.operations(service, environment)
    return next((one["name"] for one in found if not one["writes"] and one["name"].startswith("Get")), found[0]["name"])


def first_call(client: Client, url: str, environment: str, service: str, operation: str) -> None:
    """Ask for the first caller of a service, let it in, and call as it."""
    roles = sorted({role for one in client.operations(service, environment) for role in one["roles"]})
    out.print(f"\n[bold]A caller[/]  Who calls {text(service)} has a name, the role {text(', '.join(roles))} and a token.")
    name = _ask("The name of the first caller", "first-caller")
    client.save_caller(name, roles, "Made by 'bricola start'")
    token = client.new_token(name)
    shown = next(one for one in client.operations(service, environment) if one["name"] == operation)
    values = _values(client, environment, service, operation, shown["input"])
    address = f"{url}/rest/{environment}/{service}"
    with ServiceClient(address, token) as caller:
        answer = caller.call(operation, **values)
    out.print(f"[green]●[/] {text(operation)} {text(' '.join(f'{key}={value}' for key, value in values.items()))} answers:")
    print_answer(answer)
    deployed = next(two for one in client.overview()["services"] if one["name"] == service for two in one["deployments"]
                    if two["environment"] == environment)
    out.print(f"\nThe token of {text(name)}, shown once: [bold]{text(token)}[/]", soft_wrap=True)
    out.print(f"Contract for callers: {text(deployed['wsdl'])}", soft_wrap=True)
    arguments = " ".join(f"{key}={value}" for key, value in values.items())
    out.print(f"[dim]Next: bricola call {text(environment)} {text(service)} {text(operation)} {text(arguments)}; "
              f"or the console at {text(url)}/[/]", soft_wrap=True)


def _values(client: Client, environment: str, service: str, operation: str, elements: Sequence[Mapping[str, Any]]) -> dict[str, str]:
    """What an operation needs, by its samples, which are of a real row; of a key, one that there is."""
    found = {}
    for one in elements:
        if one["required"] and one.get("sample") is not None:
            found[one["name"]] = str(one["sample"])
        elif one["required"] and one.get("key_of"):
            keys = client.keys(environment, service, operation, one["name"], limit=1)
            if keys["rows"]:
                found[one["name"]] = str(keys["rows"][0][keys["key"]])
    return found
