"""Folders of files that workflows read and write."""

from collections.abc import Iterator
from typing import Any

from bricola.core.definitions.engines.engine import Engine, Family
from bricola.core.definitions.engines.places import FilePlace, FilePlaces, Writing, path_fault
from bricola.core.definitions.engines.sqlite import RULES
from bricola.core.definitions.findings import Finding


def _findings(backend: Any, binding: Any, environment: Any, where: str) -> Iterator[Finding]:
    for one in binding.ends:
        fault = path_fault(one.address)
        if fault:
            yield RULES.finding("binding.file-path", fault, f"{where}, file", found=one.address,
                                expected="a path below the allowed folders, like live/exports")


ENGINE = Engine("files", "folder of files", Family.FOLDER, (FilePlace, FilePlaces, Writing), is_file=True, is_folder=True,
                example="file: …",
                needs_sign_on=lambda backend, binding: False, findings=_findings)
