"""Records drawn from a sample or a schema, and the sample messages of records that are being written."""

import asyncio
import json
from collections.abc import Mapping, Sequence
from typing import Any

from lxml import etree

from bricola.core.contracts.drawing import draw
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.drawn import values_of
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.parts import RecordDefinition
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.messages.encoder import compile_encoder
from bricola.core.messages.plain import from_plain, to_plain
from bricola.core.messages.samples import sample_values
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.model import Record
from bricola.core.shapes.typed import typed_elements
from bricola.server.usecases.credentials import HasDrafts

_NAMESPACE = "urn:sample"  # in messages it is that of the service


async def drawn(ports: HasDrafts, content: bytes, name: str, part: str) -> dict[str, Any]:
    """The records that a sample or a schema shows: as values of the form and as texts, the one that is meant first. `known` of one says
    whether there is a draft of that name: 'same' or 'other'."""
    try:
        found = await asyncio.to_thread(draw, content, name, part)
    except ProblemError as error:
        if part or not error.problems[0].choices:
            raise
        return {"records": [], "notes": [], "parts": list(error.problems[0].choices)}  # people choose
    catalogue = ports.drafts.catalogue
    return {"records": [{"name": one.name, "path": default_path(one), "text": write_definition(one), "values": values_of(one),
                         "known": _known(catalogue.find_record(one.name), one)} for one in found.records],
            "notes": list(found.notes), "parts": []}


def _known(there: RecordDefinition | None, one: RecordDefinition) -> str:
    return "" if there is None else "same" if there == one else "other"


async def sample_message(ports: HasDrafts, texts: Sequence[str]) -> dict[str, str]:
    """A message of the first of these records, with all its parts, in XML and in JSON; the others stand beside the drafts. Raises
    ProblemError."""
    return await asyncio.to_thread(_message, ports.drafts.catalogue, texts)


def _message(drafts: Catalogue, texts: Sequence[str]) -> dict[str, str]:
    written = [read_definition(text, "form") for text in texts]
    first = written[0]
    if not isinstance(first, RecordDefinition):
        raise ProblemError(Problem("sample.record", "Only a record has a sample message.", place="form", found=first.kind))
    elements = typed_elements(first.fields, drafts | Catalogue(written), f"record {first.name}", (first.name,))
    record = Record(first.name, tuple(elements))
    problems: list[Problem] = []
    values = from_plain(record, sample_values(record, full=True), first.name, problems)
    if problems:
        raise ProblemError(*problems)
    return {"xml": _indented(record, values), "json": json.dumps(to_plain(record, values), indent=2, ensure_ascii=False)}


def _indented(record: Record, values: Mapping[str, Any]) -> str:
    root = etree.fromstring(compile_encoder(record, _NAMESPACE)(dict(values)))
    etree.indent(root)
    return etree.tostring(root, encoding="unicode")
