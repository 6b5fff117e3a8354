"""All commands by name, so that the list of them is shown, and one of them is run, without loading the others."""

import importlib
from typing import Any, NamedTuple

import typer
from typer.core import TyperCommand, TyperGroup


class Listed(NamedTuple):
    """The module that a command is defined in, and how the list of commands shows it; a test holds both against the module."""

    module: str
    panel: str
    words: str


COMMANDS: dict[str, Listed] = {
    "serve": Listed("serving", "Run", "Run the service until it is stopped."),
    "demo": Listed("serving", "Run", "Run the service with the demo world, Larkmere Waterways."),
    "start": Listed("start", "Run", "Set a new service up, question by question: first user, environments, a backend, a table of it as a"
                                    " service, and a first call."),
    "signin": Listed("people", "People and callers",
        "Sign in to a service; the commands use it from then on. The password is asked for, or read from a pipe."),
    "access": Listed("people", "People and callers", "Access: which roles may call what in which environment."),
    "roles": Listed("people", "People and callers", "List roles: what each may call, and which callers have it."),
    "apply": Listed("definitions", "Definitions",
        "Make drafts of the definitions in a folder. Shows the plan first; nothing goes live by this."),
    "export": Listed("copies", "Definitions",
                     "Write all drafts as YAML files, the same bytes for the same definitions. What was changed in the folder is never"
                     " overwritten."),
    "merge": Listed("copies", "Definitions",
                    "Bring what was changed in a folder together with what others changed since. Exit status 1 when both changed one"
                    " place."),
    "diff": Listed("definitions", "Definitions", "Show line by line how a folder differs from the drafts. Exit status 1 when it does."),
    "mend": Listed("definitions", "Definitions",
                   "Do the mends of the review that are mechanical, as new drafts. Shows what it would do, and asks."),
    "review": Listed("definitions", "Definitions",
        "List what stands between a draft and a sound release. Exit status 1 when an error stops it."),
    "workflows": Listed("workflows", "Definitions",
        "List workflows, or show one step by step: what each does, what is wrong where, what its maps lack."),
    "processes": Listed("processes", "Definitions", "Processes that run elsewhere (WS-BPEL 2.0), brought in as workflows."),
    "packages": Listed("packages", "Definitions", "Packages: definitions to hand over, and templates to be filled in."),
    "requests": Listed("requests", "Definitions", "Integration requests: what somebody asks for, taken in as a service."),
    "copy": Listed("workflows", "Definitions", "Copy a definition before changing it: a draft that is equal but for its name."),
    "publish": Listed("workflows", "Definitions",
        "Make a source an operation of a service, as a draft: with a contract of ours, or behind one of somebody else."),
    "try": Listed("workflows", "Definitions",
        "Try an expression: what it gives for a sample, or what is wrong with it and where. Exit status 1 for a wrong one."),
    "release": Listed("deployments", "From draft to live",
        "Freeze the draft of a service, with everything that it needs, as its next release."),
    "releases": Listed("deployments", "From draft to live", "List the releases of a service, and where each is live."),
    "compare": Listed("deployments", "From draft to live",
        "Compare two versions of a service: verdict for callers, each change, who is affected, the definitions."),
    "gates": Listed("deployments", "From draft to live",
        "Show what a deployment would do and whether its gates are open. Exit status 1 when one is not."),
    "deploy": Listed("deployments", "From draft to live",
        "Make a release live in an environment, without a restart and without losing a call."),
    "rollback": Listed("deployments", "From draft to live", "Go back, in one step, to the release that was live before."),
    "promote": Listed("deployments", "From draft to live", "Make live in an environment what is live in the one before it."),
    "retire": Listed("deployments", "From draft to live",
        "Announce the end of a service: its contract says so at once, and from that day on calls get a friendly fault."),
    "undeploy": Listed("deployments", "From draft to live", "Take a service out of an environment; calls in flight end in peace."),
    "services": Listed("services", "Services",
        "List services with their stage, and their state, release and address in every environment."),
    "contract": Listed("services", "Services", "Print the contract (WSDL), ready to hand over."),
    "contracts": Listed("contracts", "Services", "Contracts of others: read, taken in, checked."),
    "impact": Listed("impact", "Services",
                     "Say who is affected by a change below: which operations, cases and callers, and what does not fit now. Exit status 1"
                     " when something does not."),
    "sample": Listed("services", "Services", "Print a request that works unedited."),
    "environments": Listed("backends", "Backends", "Environments: where releases run, and what each can host."),
    "context": Listed("context", "Backends", "Context: what environments say for every call, like the company, by name."),
    "backends": Listed("backends", "Backends",
        "List every backend in every environment: bound or not, with its endpoints, credential and pool."),
    "check": Listed("backends", "Backends",
        "Try the way to a backend stage by stage. The first stage that fails names the cause. Exit status 1 for a failure."),
    "connect": Listed("discovery", "Backends", "Define a backend where it is new, and bind it in an environment; takes effect at once."),
    "terminal": Listed("screens", "Backends",
        "Open a live terminal: of a backend, or of an address before anything is defined. Ctrl X leaves."),
    "call": Listed("calling", "Calls", "Call an operation through its real endpoint and print the answer. Exit status 1 for a fault."),
    "test": Listed("testing", "Tests",
        "Run test suites, or tests made from the contracts. Exit status 1 when one fails, 130 when it is stopped."),
    "suites": Listed("suites", "Tests", "Test suites: kept cases of services, whether they fit, and their runs."),
    "keys": Listed("calling", "Calls", "List real keys for an input that holds the key of an object."),
    "calls": Listed("calling", "Calls", "List recorded calls, the newest first."),
    "trace": Listed("tracing", "Calls",
        "Show what every step of a call took and gave, how long it took, and over which session; the cause of a failure first."),
    "jobs": Listed("jobs", "Calls", "Jobs: accepted calls that are done later; cancelled, tried again, settled."),
    "audit": Listed("audit", "People and callers", "List who changed what, from what, to what; the newest first."),
    "backup": Listed("audit", "Run",
        "Take a backup of the running service. The key of the credentials is not in it: keep a copy of it apart."),
    "restore": Listed("audit", "Run",
        "Put a backup into a new data folder. Copy the key file there too, then: bricola serve --data FOLDER"),
    "callers": Listed("people", "People and callers", "Callers: the identities that call services."),
    "users": Listed("people", "People and callers", "Users: people with a role and a password."),
    "pools": Listed("backends", "Backends", "Pools: the sessions to each backend, as they are now."),
    "discover": Listed("discovery", "Backends",
                       "Discover: look around in a database; make objects of its tables, operations of its routines."),
    "screens": Listed("screens", "Backends", "Screen flows: their films, and whether the host still looks like them."),
    "copybooks": Listed("copybooks", "Backends", "Copybooks: what they lay out, and records to values and back."),
    "programs": Listed("programs", "Backends", "Programs: what hosts offer, and definitions made of copybooks."),
    "credentials": Listed("credentials", "Backends", "Credentials: secrets that Bricola presents to backends; never shown."),
}


def load_module(module: str) -> dict[str, Any]:
    """The commands that a module defines."""
    app = typer.Typer()
    app.callback()(lambda: None)  # so that a single command is a command of a group too
    importlib.import_module(f"bricola.cli.{module}").register(app)
    group = typer.main.get_command(app)
    assert isinstance(group, TyperGroup)
    return dict(group.commands)


class LazyGroup(TyperGroup):
    """A group whose commands are loaded when they are run, or when something inside of them is asked for."""

    def list_commands(self, ctx: Any) -> list[str]:
        return [*COMMANDS, *super().list_commands(ctx)]

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """What the list shows: a name with its words."""
        listed = COMMANDS.get(cmd_name)
        if listed is None or cmd_name in self.commands:
            return super().get_command(ctx, cmd_name)
        shown = TyperCommand(cmd_name, help=listed.words)
        shown.rich_help_panel = listed.panel
        return shown

    def resolve_command(self, ctx: Any, args: list[str]) -> tuple[Any, Any, list[str]]:
        """What is run."""
        listed = COMMANDS.get(args[0]) if args else None
        if listed is not None and args[0] not in self.commands:
            self.commands.update(load_module(listed.module))
        return super().resolve_command(ctx, args)
