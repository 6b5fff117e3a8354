"""`workflows`, `copy` and `try`: what workflows there are, how they run, copies before a change, expressions as one types them."""

import json
import sys
from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any

import typer

from bricola.cli.calling import parse_values
from bricola.cli.connection import At, Json, connect
from bricola.cli.output import err, out, print_json, table, text
from bricola.cli.records import print_trial
from bricola.cli.tracing import print_spans
from bricola.core.problems import Problem, ProblemError

_MOST_CALLED = 3


def register(app: typer.Typer) -> None:
    @app.command(rich_help_panel="Definitions")
    def workflows(
        name: Annotated[str, typer.Argument(help="One workflow, step by step.")] = "",
        known: Annotated[str, typer.Option("--known", metavar="STEP", help="What may be spoken of before this step, with its types.")] = "",
        call: Annotated[str, typer.Option("--call", metavar="CALL", help="Show values of this recorded call.")] = "",
        run: Annotated[str, typer.Option("--run", metavar="ENVIRONMENT", help="Run the draft there, with its samples: a trial.")] = "",
        values: Annotated[list[str] | None, typer.Option("--input", "-i", metavar="NAME=VALUE", help="An input of --run.")] = None,
        for_real: Annotated[bool, typer.Option("--for-real", help="With --run: store what it writes.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """List workflows, or show one step by step: what each does, what is wrong where, what its maps lack."""
        if run:
            _run(name, run, values or [], not for_real, at, as_json)
            return
        with connect(at) as client:
            found: Any = client.look(name, call=call) if name else client.workflows()
        if as_json:
            print_json(found)
        elif not name:
            _print_list(found)
        elif known:
            _print_known(found, known)
        else:
            _print_one(found)
        if name and found["problems"]:
            raise typer.Exit(1)

    @app.command(rich_help_panel="Definitions")
    def copy(
        kind: Annotated[str, typer.Argument(help="Like workflow, query, object, service.")],
        name: str,
        new: Annotated[str, typer.Argument(metavar="NEW-NAME")],
        folder: Annotated[str | None, typer.Option("--folder", help="Where it goes; beside the original when left out.")] = None,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Copy a definition before changing it: a draft that is equal but for its name."""
        with connect(at) as client:
            changes = client.copy(kind, name, new, folder)
        if as_json:
            print_json(changes)
        else:
            where = text(changes[0]["path"])
            out.print(f"[green]+[/] {text(kind)} [bold]{text(new)}[/] is a draft, at {where}. {text(name)} stays as it is.")

    @app.command(rich_help_panel="Definitions")
    def publish(
        runs: Annotated[str, typer.Argument(help="What is published, as operations name it: 'workflow price-toll', 'query tonnage'.")],
        service: Annotated[str, typer.Option("--service", help="Name of the service: a new one, or one that there is.")],
        operation: Annotated[str, typer.Option("--operation", help="Its name; of a service that follows a contract, one of that.")] = "",
        role: Annotated[str, typer.Option("--role", help="A role that may call it.")] = "",
        at: At = "", as_json: Json = False,
    ) -> None:
        """Make a source an operation of a service, as a draft: with a contract of ours, or behind one of somebody else."""
        with connect(at) as client:
            done = client.publish(runs, service, operation, role)
        if as_json:
            print_json(done)
        else:
            out.print(f"[green]+[/] [bold]{text(done['service'])}.{text(done['operation'])}[/] runs {text(runs)}, as a draft. "
                      f"Next: bricola review {text(done['service'])}")

    @app.command("try", rich_help_panel="Definitions")
    def try_expression(
        expression: str,
        sample: Annotated[
            Path | None, typer.Option("--sample", metavar="FILE", help="JSON whose members are the names ('-': from a pipe).")
        ] = None,
        workflow: Annotated[str, typer.Option("--workflow", "-w", help="With the names and types of a step of this workflow.")] = "",
        step: Annotated[str, typer.Option("--step", "-s", help="Before this step, by its path like items.found.")] = "",
        call: Annotated[str, typer.Option("--call", metavar="CALL", help="With the values of this recorded call.")] = "",
        at: At = "", as_json: Json = False,
    ) -> None:
        """Try an expression: what it gives for a sample, or what is wrong with it and where. Exit status 1 for a wrong one."""
        with connect(at) as client:
            if workflow:
                found = client.try_in_place(workflow, step, expression, call=call)
            else:
                found = client.try_expression(expression, _sample(sample))
        if as_json:
            print_json(found)
        else:
            _print_tried(expression, found)
        if found["problems"]:
            raise typer.Exit(1)


def _run(name: str, environment: str, words: list[str], trial: bool, at: str, as_json: bool) -> None:
    """Run a draft; exit status 1 where it fails."""
    with connect(at) as client:
        found = client.run_draft(name, environment, parse_values(words) if words else None, trial)
    if as_json:
        print_json(found)
    else:
        print_spans(found["trace"]["spans"], True)
        for one in found["problems"]:
            out.print(f"[red]✕[/] {text(one['message'])}", soft_wrap=True)
        took = f"{found['micros'] / 1000:.1f} ms"
        if found["answer"] is not None:
            out.print(f"\n{text(json.dumps(found['answer'], ensure_ascii=False, indent=1))}\n[green]● answered[/] in {took}",
                      soft_wrap=True)
        if trial:
            print_trial({"repeats": "", "trial": "rolled back" if found["changes"] else "nothing was written", "changes": found["changes"]})
    if found["answer"] is None:
        raise typer.Exit(1)


def _sample(file: Path | None) -> dict[str, Any]:
    if file is None:
        return {}
    try:
        content = sys.stdin.read() if str(file) == "-" else file.read_text()
        found = json.loads(content)
    except OSError as error:
        raise ProblemError(Problem("sample.file", "The file cannot be read.", place=str(file), found=error.strerror or "")) from None
    except ValueError as error:
        raise ProblemError(Problem("sample.json", "The file is no JSON.", place=str(file), found=str(error))) from None
    if not isinstance(found, dict):
        raise ProblemError(Problem("sample.object", "A sample is a JSON object, whose members are names.", place=str(file)))
    return found


def _print_tried(expression: str, found: Mapping[str, Any]) -> None:
    for one in found["problems"]:
        character = one.get("place", "").rpartition("character ")[2]
        if character.isdigit() and "\n" not in expression:
            err.print(f"  {text(expression)}\n  {' ' * (int(character) - 1)}[red]^[/]", soft_wrap=True)
        err.print(f"[red]✕[/] {text(one['message'])}", soft_wrap=True)
        for word in ("expected", "found", "mend"):
            if one.get(word):
                err.print(f"  [dim]{word:<8}[/] {text(one[word])}", soft_wrap=True)
    if not found["problems"]:
        out.print(f"{text(json.dumps(found['value'], ensure_ascii=False, indent=1))}\n[dim]{text(found['type'])}[/]", soft_wrap=True)


def _print_list(found: list[Mapping[str, Any]]) -> None:
    if not found:
        out.print("There is no workflow yet.")
        return
    out.print(table(("Workflow", "Steps", "Writes", "Calls", "Run by", "Mistakes"), [
        (f"[bold]{text(one['name'])}[/]", str(one["steps"]), "writes" if one["writes"] else "[dim]reads[/]",
         text(_called(one["calls"])),
         text(", ".join(f"{run['service']}.{run['operation']}" for run in one["run_by"]) or "–"),
         f"[red]✕ {one['problems']}[/]" if one["problems"] else "[green]● none[/]") for one in found], right=("Steps",)))


def _called(calls: list[str]) -> str:
    """The names of what is called, each once, as far as they fit."""
    names = list(dict.fromkeys(one.rpartition(" ")[2] for one in calls))
    return ", ".join(names[:_MOST_CALLED]) + (f" and {len(names) - _MOST_CALLED} more" if len(names) > _MOST_CALLED else "") or "–"


def _print_known(found: Mapping[str, Any], step: str) -> None:
    one = next((one for one in found["steps"] if one["step"] == step), None)
    if one is None:
        raise ProblemError(Problem("workflow.step", "There is no such step.", found=step,
                                   choices=tuple(two['step'] for two in found['steps'])))
    out.print(table(("Name", "Type", "Value" if found["sample"] else "Sample"), [
        (f"[bold]{text(name['path'])}[/]" if "." not in name["path"] else text(name["path"]),
         text(name["type"]) + (" [yellow]may be absent[/]" if name["optional"] else ""),
         f"[dim]{text(_short(name.get('value')))}[/]") for name in one["known"]]))


def _short(value: Any) -> str:
    if value is None:
        return ""
    line = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return f"{line[:60]}…" if len(line) > 60 else line


_ANSWERS = {"later": "; answers later, with the number of a job", "nothing": "; answers nothing: it is a job"}


def _print_one(found: Mapping[str, Any]) -> None:
    looks = {one["step"]: one for one in found["steps"]}
    out.print(f"[bold]{text(found['name'])}[/]  takes {text(_slots(found['input']))}; gives {text(_slots(found['output']))}"
              + (f"; fails with {text(', '.join(found['faults']))}" if found["faults"] else "")
              + _ANSWERS.get(found["definition"].get("answers", "now"), ""), soft_wrap=True)
    for path, line in outline(found["definition"].get("steps", {}), "", 0):
        one = looks.get(path)
        maps = one["maps"].values() if one else ()
        lacking = [part["path"] for parts in maps for part in parts if part["required"] and not part["line"]]
        wrong = [problem for problem in found["problems"] if problem["step"] == path]
        mark = "[red]✕[/]" if wrong else " "
        out.print(f"{mark} {text(line)}" + (f"  [yellow]lacks {text(', '.join(lacking))}[/]" if lacking else ""), soft_wrap=True)
        for problem in wrong:
            out.print(f"      [red]{text(problem['part'])}: {text(problem['message'])}[/] {text(problem.get('mend', ''))}", soft_wrap=True)
    for problem in found["problems"]:
        if not problem["step"]:
            more = f"{problem.get('found', '')} {problem.get('mend', '')}".strip()
            out.print(f"[red]✕[/] {text(problem['part'])}: {text(problem['message'])} {text(more)}", soft_wrap=True)


def _slots(slots: list[Mapping[str, Any]]) -> str:
    return ", ".join(f"{one['name']}{'[]' if one['list'] else '' if one['required'] else '?'}" for one in slots) or "nothing"


def outline(steps: Mapping[str, Any], at: str, depth: int) -> list[tuple[str, str]]:
    """Every step by path, in a line: its name, and what it does."""
    found: list[tuple[str, str]] = []
    pad = "  " * depth
    for name, step in steps.items():
        path = f"{at}.{name}" if at else name
        found.append((path, f"{pad}{name:<{max(1, 24 - len(pad))}} {_says(step)}"))
        for word in ("attempt", "steps"):
            found += outline(step.get(word, {}), path, depth + 1)
        for branch, inside in step.get("when", {}).items():
            found.append((f"{path}.{branch} ", f"{pad}  {branch}: if {inside.get('test', '')}"))
            found += outline(inside.get("steps", {}), f"{path}.{branch}", depth + 2)
        for lane, inside in step.get("parallel", {}).items():
            found.append((f"{path}.{lane} ", f"{pad}  {lane}:"))
            found += outline(inside.get("steps", {}), f"{path}.{lane}", depth + 2)
        if "otherwise" in step:
            found.append((f"{path}.otherwise ", f"{pad}  otherwise:"))
            found += outline(step["otherwise"], f"{path}.otherwise", depth + 2)
        for handler, inside in step.get("catch", {}).items():
            found.append((f"{path}.catch.{handler} ", f"{pad}  catch {handler}:"))
            found += outline((inside or {}).get("steps", {}), f"{path}.catch.{handler}", depth + 2)
        if step.get("always"):
            found.append((f"{path}.always ", f"{pad}  always:"))
            found += outline(step["always"], f"{path}.always", depth + 2)
    return found


def _says(step: Mapping[str, Any]) -> str:
    """What a step does, in a line."""
    only = f", only if {step['only_if']}" if "only_if" in step else ""
    undo = f", undone by {step['undo']['call']}" if "undo" in step else ""
    for action in ("call", "fail", "note", "wait", "session", "for_each", "repeat_while", "write_file", "read_file"):
        if action in step:
            return f"{action.replace('_', ' ')} {step[action]}{undo}{only}"
    if "set" in step:
        return f"set {', '.join(step['set'])}{only}"
    return next((one for one in ("when", "parallel", "attempt", "reply") if one in step), "?") + only
