"""Bundles: definition files by path, as they stand in a folder or travel over the wire."""

import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.text import read_definition, write_definition, write_mapping
from bricola.core.problems import Problem, ProblemError

_MOST_FILES = 5_000


@dataclass(frozen=True)
class DefinitionFile:
    """One definition with the path that it lives under. Folders are groups and mean nothing else."""

    path: str
    definition: Definition

    @property
    def reference(self) -> Reference:
        return self.definition.kind, self.definition.name

    @property
    def text(self) -> str:
        return write_definition(self.definition)


def read_bundle(texts: Mapping[str, str]) -> list[DefinitionFile]:
    """The definitions of many files. Raises ProblemError with the mistakes of all files together."""
    problems: list[Problem] = []
    files: list[DefinitionFile] = []
    if len(texts) > _MOST_FILES:
        raise ProblemError(Problem("bundle.size", "There are too many files.", expected=f"at most {_MOST_FILES}",
                                   found=str(len(texts))))
    for path in sorted(texts):
        try:
            _check_path(path)
            files.append(DefinitionFile(path, read_definition(texts[path], path)))
        except ProblemError as error:
            problems += error.problems
    first: dict[Reference, str] = {}
    for file in files:
        other = first.setdefault(file.reference, file.path)
        if other != file.path:
            kind, name = file.reference
            problems.append(Problem("bundle.repeated", f"The {kind} {name} is defined twice.", place=file.path,
                                    found=f"the first in {other}", mend="Keep one of the two files."))
    if problems:
        raise ProblemError(*problems)
    return files


def _check_path(path: str) -> None:
    parts = PurePosixPath(path).parts
    if not parts or path.startswith("/") or ".." in parts or "\\" in path or not path.endswith(".yaml"):
        raise ProblemError(Problem("bundle.path", "This is not a path inside the bundle.", place=path,
                                   expected="a relative path like objects/vessel.yaml"))


def default_path(definition: Definition) -> str:
    """Where a definition stands that came without a file."""
    return f"{folder_of(type(definition))}/{definition.name}.yaml"


def folder_of(model: type[Definition]) -> str:
    """The folder that files of a kind go to when they have no place of their own."""
    return model.folder or f"{model.kind}s"


def read_folder(folder: Path) -> dict[str, str]:
    """The texts of all YAML files below a folder, by relative path with forward slashes."""
    if not folder.is_dir():
        raise ProblemError(Problem("bundle.folder", "There is no such folder.", place=str(folder)))
    texts: dict[str, str] = {}
    problems: list[Problem] = []
    for file in sorted(folder.rglob("*")):
        relative = file.relative_to(folder)
        if file.suffix not in (".yaml", ".yml") or any(part.startswith(".") for part in relative.parts):
            continue
        name = relative.with_suffix(".yaml").as_posix()
        try:
            texts[name] = _with_tables(file.read_text(encoding="utf-8"), file.parent)
        except UnicodeDecodeError as error:
            problems.append(Problem("bundle.encoding", "The file is not UTF-8 text.", place=str(file),
                                    found=f"byte {error.start}", mend="Save it as UTF-8."))
    if problems:
        raise ProblemError(*problems)
    if not texts:
        raise ProblemError(Problem("bundle.empty", "There are no definitions in this folder.", place=str(folder),
                                   expected="files that end in .yaml"))
    return texts


_TABLE = re.compile(r"\brows: *['\"]?([\w.-]+\.csv)\b")


def _with_tables(text: str, folder: Path) -> str:
    """The text of a test suite with the CSV files beside it that it names; they become a part of it."""
    if not text.startswith("test-suite:") or re.search(r"^files:", text, re.MULTILINE):
        return text
    found = {name: (folder / name).read_text(encoding="utf-8-sig") for name in dict.fromkeys(_TABLE.findall(text))
             if (folder / name).is_file()}
    return f"{text.rstrip()}\n{write_mapping({'files': found})}" if found else text


def write_folder(folder: Path, texts: Mapping[str, str]) -> None:
    """Write the files of a bundle; existing files of the same paths are replaced, others stay."""
    for path, text in texts.items():
        _check_path(path)
        target = folder / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(text, encoding="utf-8")


def as_catalogue(files: list[DefinitionFile]) -> Catalogue:
    return Catalogue(file.definition for file in files)
