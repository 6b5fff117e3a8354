"""After a walk at a terminal in a window: a host that nobody had defined becomes a backend, and a walk a screen flow that is published."""

import itertools
import re
from collections.abc import Collection, Iterator
from typing import Any

import typer

from bricola.cli.output import out, text
from bricola.cli.start import first_call
from bricola.cli.typewriter import Walked
from bricola.client import Client
from bricola.client.screens import TerminalLine
from bricola.client.transport import problem_of
from bricola.core.definitions.names import pascal_case
from bricola.core.problems import Problem, ProblemError

_RUN = re.compile(r"\S+(?: \S+)*")
_LABEL = re.compile(r"[:=]\s*$|\.{2,}\s*:?\s*$|(?: \.)+\s*:?\s*$")  # what ends like this says what comes after it


def refuse_without_engine(where: str) -> None:
    """Of an address without an engine: tell what is missing."""
    raise ProblemError(Problem("terminal.engine", "How the host talks is not said.", place="--engine", expected="tn3270 or tn5250",
                               mend=f"Try: bricola terminal {where} --engine tn3270 (or name an environment and a backend)."))


def first_environment(client: Client) -> str:
    found = client.overview()["environments"]
    if not found:
        raise ProblemError(Problem("environment.none", "There is no environment yet.", mend="Make one: bricola environments add NAME"))
    return next((one["name"] for one in found if not one["protected"]), found[0]["name"])


def learn_host(line: TerminalLine, walked: Walked, name: str, environment: str) -> None:
    """Make a backend of the host, where the person says how it is called."""
    if not walked.moves and not name:
        line.leave()
        return
    name = name or typer.prompt("What is this host called here (empty: forget it)", default="", show_default=False)
    if not name:
        line.leave()
        return
    made = line.learn(name)
    line.leave()
    out.print(f"Backend [bold]{text(name)}[/] in {text(environment)}, with its start on {text(made['start'])}.")
    out.print(f"  screens     {text(', '.join(made['screens']))}")
    if made["credential"]:
        out.print(f"  credential  {text(made['credential'])}, as it was typed at the sign-on")
    for one in made["notes"]:
        out.print(f"  note        {text(one)}")
    out.print(f"Next: bricola terminal {text(environment)} {text(name)} --record FLOW")


def record_walk(client: Client, name: str, environment: str, backend: str, walked: Walked) -> None:
    """Ask what the walk means, make a flow of it, and publish it. Raises ProblemError."""
    shots = [{"before": one["before"], "known": one["was"], "typed": one["typed"], "key": one["key"], "after": one["screen"],
              "came": one["came"]} for one in walked.moves]
    if not shots:
        raise ProblemError(Problem("recording.empty", "Nothing was recorded.", mend="Walk through the task once, and back to the start."))
    start = walked.opened["start"]
    places = _inputs(client, shots, start)
    told = next((one for one in reversed(shots) if one["came"] != start), shots[-1])
    lists = _list(client, told, walked.opened["engine"])
    places += _outputs(client, told, {one["name"] for one in places}, lists)
    writes = typer.confirm("Does this change anything on the host", default=True)  # what only reads may be tried again by itself
    service = typer.prompt("Service", default=pascal_case(backend))
    operation = typer.prompt("Operation", default=pascal_case(name))
    role = typer.prompt("Role that may call it", default="reader")
    samples = {one["name"]: one.pop("sample") for one in places if one["kind"] == "input"}
    body: dict[str, Any] = {"name": name, "backend": backend, "environment": environment, "shots": shots, "places": places, "lists": lists,
                            "writes": writes, "service": service, "operation": operation, "roles": [role], "save": True,
                            "quiet": walked.moves[-1].get("quiet")}
    made = client.finish_recording(body)
    if made["problems"]:
        raise ProblemError(*map(problem_of, made["problems"]))
    out.print(f"Saved: {text(', '.join(one['path'] for one in made['changes']))}")
    is_protected = any(one["name"] == environment and one["protected"] for one in client.overview()["environments"])
    if typer.confirm(f"Publish it in {environment} now", default=not is_protected):
        number = client.release(service, f"{operation}, as it was recorded")["release"]
        client.deploy(service, environment, number)
        out.print(f"[bold]{text(service)}[/] r{number} answers in {text(environment)}.")
        if not any(role in one["roles"] for one in client.callers()):
            first_call(client, client.url, environment, service, operation)
            return
        values = " ".join(f"{key}={value}" for key, value in samples.items())
        out.print(f"Next: bricola call {text(environment)} {text(service)} {text(operation)} {text(values)}".rstrip())


def _inputs(client: Client, shots: list[dict[str, Any]], start: str) -> list[dict[str, Any]]:
    """What was typed beyond choices on the start screen: each an input, or always the same."""
    found: list[dict[str, Any]] = []
    for shot in shots:
        for at, typed in sorted(shot["typed"].items(), key=lambda one: int(one[0])):
            if shot["known"] == start or typed is None or any(_is_at(one, shot, int(at)) for one in found):
                continue
            row, column, length = _spot(shot["before"], int(at))
            guess = client.guess_place(shot["before"], row, column, length)
            wanted = typer.prompt(f"You typed {typed} on {shot['known']}. Name of this input (- if it is always so)",
                                  default=guess["name"])
            if wanted != "-":
                found.append({"screen": shot["known"], "name": wanted, "kind": "input", "row": row, "column": column, "length": length,
                              "type": "string", "sample": typed})
    return found


def _is_at(place: dict[str, Any], shot: dict[str, Any], at: int) -> bool:
    row, column, _ = _spot(shot["before"], at)
    return (place["screen"], place["row"], place["column"]) == (shot["known"], row, column)


def _spot(screen: dict[str, Any], at: int) -> tuple[int, int, int | None]:
    row, column = divmod(at, screen["columns"])
    length = next((int(one["length"]) for one in screen["fields"] if one["start"] == at), None)
    return row + 1, column + 1, length


def _list(client: Client, shot: dict[str, Any], engine: str) -> list[dict[str, Any]]:
    """A region of rows on the last screen, where the person says that there is one."""
    said = typer.prompt(f"Rows of a list on {shot['came']}, as FIRST-LAST (empty: none)", default="", show_default=False)
    rows = re.fullmatch(r"\s*(\d+)\s*-\s*(\d+)\s*", said)
    if rows is None:
        return []
    screen = shot["after"]
    region = client.guess_region(screen, int(rows[1]), 1, int(rows[2]), screen["columns"], engine)
    out.print("  columns: " + text(", ".join(one["name"] for one in region["columns"])))
    columns = [{key: one[key] for key in ("name", "column", "length", "type", "dates", "decimal", "fraction")} for one in region["columns"]]
    return [{"screen": shot["came"], "name": "row", "first_row": int(rows[1]), "last_row": int(rows[2]), "columns": columns,
             "press": region["press"], "goes_on": region["goes_on"], "ends": region["ends"],
             "until_same": bool(region["press"]) and not region["goes_on"] and not region["ends"]}]


def _outputs(client: Client, shot: dict[str, Any], taken: set[str], lists: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """What stands behind labels on the last screen, as far as the person wants it."""
    found: list[dict[str, Any]] = []
    inside = {row for one in lists for row in range(one["first_row"], one["last_row"] + 1)}
    for row, column, length, value in values_on(shot["after"]):
        if row not in inside:
            guess = client.guess_place(shot["after"], row, column, length)
            name = guess["name"]
            while name in taken or any(one["name"] == name for one in found):
                name += "Too"
            found.append({"screen": shot["came"], "name": name, "kind": "output", "row": row, "column": column, "length": length,
                          **{key: guess[key] for key in ("type", "dates", "decimal", "fraction")}, "value": value})
    for number, one in enumerate(found, 1):
        out.print(f"  {number:>2} {text(one['name']):<24} {text(one['value'])}")
    if not found:
        return []
    said = typer.prompt("Which of them go out (numbers with commas)", default="all")
    chosen = range(1, len(found) + 1) if said == "all" else {int(one) for one in re.findall(r"\d+", said)}
    return [{key: value for key, value in one.items() if key != "value"} for number, one in enumerate(found, 1) if number in chosen]


def values_on(screen: dict[str, Any]) -> list[tuple[int, int, int, str]]:
    """Row, column, length and text of what stands behind a label on the same row; the length is that of its field, where it has one."""
    found: list[tuple[int, int, int, str]] = []
    inputs = {at for one in screen["fields"] if not one.get("protected") for at in range(one["start"], one["start"] + one["length"])}
    starts = {one["start"]: one["length"] for one in screen["fields"]}
    for row, line in enumerate(screen["lines"], 1):
        for start, word in _runs(line, (row - 1) * screen["columns"], starts):
            before = line[:start]
            at = (row - 1) * screen["columns"] + start
            if before.strip() and _LABEL.search(before) and at not in inputs and not _LABEL.search(word):
                found.append((row, start + 1, starts.get(at, len(word)), word))
    return found


def _runs(line: str, offset: int, starts: Collection[int]) -> Iterator[tuple[int, str]]:
    """The texts of a row, each with its first column from 0: parted by two blanks, and where a field begins."""
    edges = [0, *(at - offset for at in sorted(starts) if 0 < at - offset < len(line)), len(line)]
    for first, last in itertools.pairwise(edges):
        for word in _RUN.finditer(line[first:last]):
            yield first + word.start(), word[0]
