"""The form of a package: a zip with `package.yaml`, which says what it is, and the parts that it names.

A part is a definition file. In a template it has places to be filled, `<<name>>`, whose names are the parameters of the package; a place
may ask for another way of writing a name: `<<name:kebab>>`, `<<name:pascal>>`, `<<name:camel>>`.
"""

import hashlib
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import date
from typing import Annotated, Literal, NamedTuple

from pydantic import AfterValidator, StringConstraints, ValidationError
from pydantic import Field as Described

from bricola.core.definitions.base import Frozen, Line, Name, NamedPart, NamedParts, Scalar
from bricola.core.definitions.names import camel_case, kebab_case, pascal_case
from bricola.core.definitions.text import explain, read_mapping, write_mapping
from bricola.core.problems import Problem, ProblemError, shown

FORM = 1  # of packages that this version makes; it reads older ones too
MANIFEST = "package.yaml"
_PLACE = re.compile(r"<<(?P<name>[A-Za-z_][A-Za-z0-9_]*)(?::(?P<form>[a-z]+))?>>")
_FORMS: dict[str, Callable[[str], str]] = {"kebab": kebab_case, "pascal": pascal_case, "camel": camel_case}
Version = Annotated[Scalar, StringConstraints(pattern=r"^\d{1,6}(\.\d{1,6}){0,3}$")]


def _a_day(text: str) -> str:
    date.fromisoformat(text)
    return text


Day = Annotated[str, StringConstraints(pattern=r"^\d{4}-\d{2}-\d{2}$"), AfterValidator(_a_day)]


class PackageParameter(NamedPart):
    """Something to be filled in. `kind` says what fits: a name, something that a step can call, a type, or any text; `sample` is taken when
    nobody says otherwise."""

    kind: Literal["name", "call", "type", "text"] = "name"
    description: Line = ""
    sample: str = ""


class PackagePart(Frozen):
    """A definition in it. `digest` is the SHA-256 of its file in hexadecimal, `changed` the day on which it was changed last."""

    path: str
    digest: str
    changed: Day


class Needed(NamedPart):
    """A backend that the parts use, and that is not among them."""

    name: Name
    engine: str = ""


class Manifest(Frozen):
    """What `package.yaml` says."""

    package: Name
    version: Version
    date: Day
    origin: Line = ""
    form: int = Described(FORM, ge=1)
    description: Line = ""
    parameters: NamedParts[PackageParameter] = ()
    backends: NamedParts[Needed] = ()
    definitions: tuple[str, ...] = ()  # needed, and not among the parts: 'object vessel'
    parts: tuple[PackagePart, ...] = Described(min_length=1)


@dataclass(frozen=True)
class Package:
    """A package that was read: its manifest, and the texts of its parts by path."""

    manifest: Manifest
    texts: Mapping[str, str]

    @property
    def files(self) -> dict[str, bytes]:
        """What stands in its zip."""
        written = write_mapping(self.manifest.model_dump(mode="json", exclude_defaults=True) | {"form": self.manifest.form})
        return {MANIFEST: written.encode(), **{path: text.encode() for path, text in self.texts.items()}}


def read_package(files: Mapping[str, bytes]) -> Package:
    """A package of the files of its zip. Raises ProblemError for one that a newer version made, or that was changed since it was made."""
    content = files.get(MANIFEST)
    if content is None:
        raise ProblemError(Problem("package.manifest", "This is no package.", place=MANIFEST, expected="a zip with this file at its top",
                                   found=", ".join(sorted(files)[:6]) or "no YAML files"))
    text = _decoded(content, MANIFEST)
    data = read_mapping(text, MANIFEST)
    form = data.get("form", 1)
    if isinstance(form, int) and form > FORM:  # before its other keys are judged, which are of that form
        raise ProblemError(Problem("package.newer", "The package was made by a newer version, which knows more than this one.",
                                   place=f"{MANIFEST}, form", expected=f"at most {FORM}", found=str(form),
                                   mend="Bring this installation up to date, or ask for a package of the older form."))
    try:
        manifest = Manifest.model_validate(data)
    except ValidationError as error:
        raise explain(error, Manifest, "package", text, MANIFEST) from None
    texts: dict[str, str] = {}
    problems: list[Problem] = []
    for part in manifest.parts:
        if part.path not in files:
            problems.append(Problem("package.part", "A part is not in the package.", place=part.path, expected="a file of this path"))
        elif digest(files[part.path]) != part.digest:
            problems.append(Problem("package.changed", "The part was changed after the package was made.", place=part.path,
                                    expected=f"SHA-256 {part.digest[:12]}…", found=f"{digest(files[part.path])[:12]}…",
                                    mend="Take the package from its origin again, or have it made anew."))
        else:
            texts[part.path] = _decoded(files[part.path], part.path)
    if problems:
        raise ProblemError(*problems)
    return Package(manifest, texts)


def digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def _decoded(content: bytes, path: str) -> str:
    try:
        return content.decode()
    except UnicodeDecodeError as error:
        raise ProblemError(Problem("bundle.encoding", "The file is not UTF-8 text.", place=path, found=f"byte {error.start}")) from None


class FilledPart(NamedTuple):
    """The text of a part with values in its places, and the day on which it was changed last."""

    text: str
    changed: str


def filled(package: Package, values: Mapping[str, str]) -> dict[str, FilledPart]:
    """Its parts by path, with values in their places. Raises ProblemError for a parameter without value, and for one that is none."""
    manifest = package.manifest
    known = {one.name: values.get(one.name) or one.sample for one in manifest.parameters}
    problems = [Problem("package.parameter", "The package has no such parameter.", place=name[:80],
                        expected="none", choices=tuple(known)) for name in values if name not in known]
    for one in manifest.parameters:
        value = known[one.name]
        if not value:
            problems.append(Problem("package.value", "This has to be filled in.", place=one.name, expected=one.description or one.kind))
        elif one.kind == "name" and not re.fullmatch(r"[A-Za-z][A-Za-z0-9_-]{0,79}", value):
            problems.append(Problem("package.value", "This is no usable name.", place=one.name, found=shown(value),
                                    expected="a letter, then letters, digits, '-' and '_'"))

    def put(found: re.Match[str]) -> str:
        name, form = found["name"], found["form"]
        if name not in known or (form and form not in _FORMS):
            problems.append(Problem("package.place", "A part has a place that nothing fills.", found=found[0],
                                    expected=f"a parameter ({', '.join(known) or 'none'}), plain or with :{', :'.join(_FORMS)}"))
            return found[0]
        return _FORMS[form](known[name]) if form else known[name]

    texts: dict[str, FilledPart] = {}
    for part in manifest.parts:
        path = _PLACE.sub(put, part.path)
        if path in texts:
            problems.append(Problem("package.path", "Two parts have one path, once they are filled in.", place=path[:200]))
        texts[path] = FilledPart(_PLACE.sub(put, package.texts[part.path]), part.changed)
    if problems:
        raise ProblemError(*dict.fromkeys(problems))
    return texts
