"""Copybooks looked at, records looked at byte by byte, programs found at their hosts, and definitions made of both."""

import asyncio
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from bricola.core.cobol.comparing import Moved, compared
from bricola.core.cobol.describing import described
from bricola.core.cobol.record import Options, all_records, chosen_record, ways_of
from bricola.core.cobol.source import guessed_format
from bricola.core.cobol.spreading import spread
from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.copybooks import CopybookDefinition
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.definitions.parts import RecordDefinition
from bricola.core.definitions.text import write_definition
from bricola.core.kinds.programs.definition import Area, Held, ProgramDefinition
from bricola.core.kinds.programs.drafting import drafted, proposed
from bricola.core.kinds.programs.shape import Mapped, resolve_program
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.programs.frames import Program
from bricola.core.shapes.simple import SimpleType
from bricola.server.ports.calls import Calls
from bricola.server.ports.places import bound_backend
from bricola.server.usecases import definitions
from bricola.server.usecases.definitions import Ports
from bricola.server.usecases.impact import affected
from bricola.server.usecases.new_services import new_service

_SECONDS = 15.0  # for what is asked of one host


def layouts(text: str, options: Options) -> dict[str, Any]:
    """The layout of every record of a copybook. Raises ProblemError with line and column."""
    records = all_records(text, options)
    sides = [(one.name, *proposed(one)) for one in records]
    return {"records": [described(one, options.binary_truncate) for one in records],
            "source_format": options.source_format or guessed_format(text),
            "proposals": [{"record": name, "inputs": into, "outputs": back} for name, into, back in sides]}


def kept(ports: Ports) -> list[dict[str, Any]]:
    """The copybooks that the service keeps."""
    catalogue = ports.drafts.catalogue
    return [one.model_dump() | {"programs": [each.name for each in catalogue.all_of(ProgramDefinition)
                                             if any(area.copybook == one.name for area in each.areas)]}
            for one in catalogue.all_of(CopybookDefinition)]


def spread_record(text: str, options: Options, code_page: str, data: bytes) -> dict[str, Any]:
    """A record byte by byte. Raises ProblemError for a copybook or code page that is none."""
    ways = ways_of(code_page, options)
    items = spread(chosen_record(text, options), ways, data, options.table_follows == "slides")
    letters = "".join(one if one.isprintable() and one not in "\uffff\xff" else "." for one in ways.alphabet.decode(data))
    return {"letters": letters, "items": items}


async def hosted(ports: Ports, environment: str, backend: str, search: str) -> list[dict[str, Any]]:
    """The programs that a host offers. Raises ProblemError for a backend that is none."""
    place = ports.drafts.environment(environment)
    definition, _ = bound_backend(place, backend, ports.drafts.catalogue)
    if definition.about.family is not Family.PROGRAM_HOST:
        words = f"{backend} is a {definition.about.title} and lists no programs."
        raise ProblemError(Problem("program.host", words, place=backend, expected="a program host"))
    async with ports.places.visit(place, backend, ports.drafts.catalogue) as session:
        found = await session.programs(search)
    known = [one for one in ports.drafts.catalogue.all_of(ProgramDefinition) if one.backend == backend]
    return [{"name": one.name, "areas": list(one.areas), "words": one.words,
             "called_by": [each.name for each in known if each.calls.upper() == one.name.upper()]} for one in found]


async def draft(ports: Ports, wish: Mapping[str, Any], copybooks: Sequence[CopybookDefinition], save: bool, author: str) -> dict[str, Any]:
    """Definitions of a program from its areas; with `save` they become drafts. Raises ProblemError."""
    catalogue = ports.drafts.catalogue
    given = {one.name: one for one in copybooks}
    twice = [one.name for one in copybooks if not _same(one, given[one.name])]
    if twice:
        raise ProblemError(Problem("program.copybook-twice", "Two copybooks that differ have the same name.", place=f"copybook {twice[0]}",
                                   mend="Give one of them another name."))
    areas = [Area(**one) for one in wish["areas"]]
    names = [one.name for one in areas]
    if again := [one for number, one in enumerate(names) if one in names[:number]]:
        raise ProblemError(Problem("program.area-twice", "Two areas have the same name.", place=f"area {again[0]}",
                                   mend="Give one of them another name."))
    held = Held(**wish["held"])
    records = {}
    for area in areas:
        copybook = given.get(area.copybook) or catalogue.get(CopybookDefinition, area.copybook)
        if copybook is None:
            raise ProblemError(Problem("program.copybook", "There is no such copybook.", place=f"area {area.name}",
                                       found=shown(area.copybook), choices=tuple(given)))
        records[area.name] = chosen_record(copybook.text, options_of(copybook, area.record, held))
    taken = [one.name for one in catalogue.all_of(RecordDefinition)]
    made = await asyncio.to_thread(drafted, wish["name"], wish["backend"], wish["calls"], areas, records, held, wish["inputs"],
                                   wish["outputs"], taken)
    program = made.program.model_copy(update={"writes": wish["writes"], "description": wish["description"]})
    fresh = [one for one in copybooks if not _same(one, catalogue.get(CopybookDefinition, one.name))]
    news: list[Definition] = [*fresh, *made.records, program]
    if wish["service"]:
        words = program.description or f"Runs {program.calls}"
        news.append(new_service(catalogue, wish["service"], program, words, wish["operation"], wish["roles"]))
    _refuse_taken(ports, news, given)
    files = {default_path(one): write_definition(one) for one in news}
    changes = [definitions.plain_change(one) for one in await definitions.apply(ports, files, author)] if save else []
    source = resolve_program(program, catalogue | Catalogue(news))
    return {"files": files, "input": [line for one in source.inputs for line in _lines(one, 0)],
            "output": [line for one in source.outputs for line in _lines(one, 0)], "faults": [one.name for one in program.faults],
            "saved": save, "changes": changes}


def _lines(one: Mapped, depth: int) -> Iterator[dict[str, Any]]:
    """An element with what stands in it."""
    kind = one.element.type
    yield {"name": one.element.name, "depth": depth, "rule": kind.rule if isinstance(kind, SimpleType) else kind.name,
           "occurrence": one.element.occurrence, "item": one.item.name}
    for field in one.fields:
        yield from _lines(field, depth + 1)


def options_of(copybook: CopybookDefinition, record: str = "", held: Held | None = None) -> Options:
    """How a kept copybook is read."""
    held = held or Held()
    return Options(source_format=copybook.source_format or None, members=copybook.members, replacing=copybook.replacing, record=record,
                   native_bytes=held.native_bytes, binary_truncate=held.binary_truncate)


def _same(one: CopybookDefinition, known: CopybookDefinition | None) -> bool:
    """Whether a copybook is the one that is kept, whatever is said of it beside."""
    return known is not None and known.model_copy(update={"description": ""}) == one.model_copy(update={"description": ""})


def _refuse_taken(ports: Ports, news: Sequence[Definition], copybooks: Mapping[str, CopybookDefinition]) -> None:
    problems = []
    for one in news:
        if (one.kind, one.name) not in ports.drafts.catalogue:
            continue
        known = ports.drafts.catalogue.find((one.kind, one.name))
        if known == one:
            continue
        newer = f"Bring the newer one in by itself: bricola copybooks take FILE --as {one.name}"
        problems.append(Problem("program.taken", f"{one.name} is the name of another {one.kind}.", Kind.CONFLICT,
                                place=f"{one.kind} {one.name}", mend=newer if one.name in copybooks else "Give it another name."))
    if problems:
        raise ProblemError(*problems)


async def take(ports: Ports, calls: Calls, newer: CopybookDefinition, save: bool, author: str) -> dict[str, Any]:
    """A copybook, new or instead of the one that is kept: what differs, what would not fit any more, and who is affected; with `save` it
    becomes a draft. Definitions that name its items stay as they are. Raises ProblemError for one that cannot be understood."""
    catalogue = ports.drafts.catalogue
    known = catalogue.get(CopybookDefinition, newer.name)
    after = {one.name: described(one) for one in all_records(newer.text, options_of(newer))}
    changes: list[Moved] = []
    if known is not None:
        before = {one.name: described(one) for one in all_records(known.text, options_of(known))}
        for name, layout in after.items():
            if name in before:
                changes += compared(before.pop(name), layout)
            else:
                changes.append(Moved(path=name, what="added", now=f"a record of {layout['length']} bytes"))
        changes += [Moved(path=name, what="removed", was=f"a record of {one['length']} bytes") for name, one in before.items()]
    programs = [one for one in catalogue.all_of(ProgramDefinition) if any(area.copybook == newer.name for area in one.areas)]
    problems = [problem for one in programs for problem in _misfits(one, catalogue | Catalogue([newer]))]
    rows: list[dict[str, Any]] = []
    if changes or problems:
        rows = await affected(ports.drafts, calls, [(ProgramDefinition.kind, one.name) for one in programs])
    files = {default_path(newer): write_definition(newer)}
    saved = [definitions.plain_change(one) for one in await definitions.apply(ports, files, author)] if save else []
    return {"new": known is None, "differences": changes, "problems": [one.as_dict() for one in problems], "affected": rows, "saved": save,
            "changes": saved}


def _misfits(program: ProgramDefinition, catalogue: Catalogue) -> list[Problem]:
    """What of a program does not fit its copybooks."""
    try:
        resolve_program(program, catalogue)
    except ProblemError as error:
        return list(error.problems)
    return []


async def not_offered(ports: Any, catalogue: Catalogue, service: ServiceDefinition,
                      environment: EnvironmentDefinition) -> Sequence[Problem]:
    """What stands against a deployment: programs that their host does not offer, or with other areas."""
    problems: list[Problem] = []
    offered: dict[str, dict[str, Program]] = {}
    for program in catalogue.all_of(ProgramDefinition):
        backend = catalogue.find_backend(program.backend)
        binding = environment.binding(program.backend)
        if backend is None or backend.about.family is not Family.PROGRAM_HOST or binding is None or not binding.ends:
            continue
        if program.backend not in offered:
            try:
                async with asyncio.timeout(_SECONDS), ports.places.visit(environment, program.backend, catalogue) as session:
                    offered[program.backend] = {one.name.upper(): one for one in await session.programs()}
            except (ProblemError, TimeoutError):
                continue  # that it cannot be seen is told by the review
        problems += _unlike(program, catalogue, offered[program.backend], environment.name)
    return problems


def _unlike(program: ProgramDefinition, catalogue: Catalogue, offered: Mapping[str, Program], environment: str) -> list[Problem]:
    place = f"program {program.name}, calls"
    found = offered.get(program.calls.upper())
    if found is None:
        return [Problem("program.not-offered", f"{program.backend} in {environment} does not offer this program.", place=place,
                        found=shown(program.calls), choices=tuple(one.name for one in offered.values()))]
    try:
        records = resolve_program(program, catalogue).areas.records
    except ProblemError:
        return []  # told where it is resolved
    lengths = [records[one.name].length for one in program.areas]
    if found.areas and all(one.room == "whole" for one in program.areas) and lengths != list(found.areas):
        return [Problem("program.areas", f"{found.name} in {environment} takes other areas than the copybooks lay out.", place=place,
                        expected=", ".join(f"{one} bytes" for one in found.areas), found=", ".join(f"{one} bytes" for one in lengths),
                        mend="Bring in the copybook that the program was compiled with: bricola copybooks take FILE --as NAME")]
    return []
