"""Packages: made of definitions, held against another installation, and everything that does not fit told first."""

from datetime import date

import pytest

from bricola.adapters.parts import zip_files
from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.kinds.references import references_of, renamed
from bricola.core.packages.fitting import Fit, Here, fit, need_choices, problems_after
from bricola.core.packages.making import make_package
from bricola.core.packages.manifest import MANIFEST, Package, PackageParameter, digest, filled, read_package
from bricola.core.problems import ProblemError
from bricola.demo.packages import demo_packages
from bricola.demo.start import catalogue_files

ABOUT = {"package": "statuses", "version": "1.2", "date": "2026-11-28", "origin": "Larkmere Waterways"}
TODAY = date(2026, 11, 28)


@pytest.fixture(scope="module")
def demo() -> Catalogue:
    return Catalogue(read_definition(text, path) for path, text in catalogue_files().items())


def made(demo: Catalogue, chosen: str = "service PassageStatus", parameters: dict[str, PackageParameter] | None = None, alone: bool = False,
         changed: str = "2026-11-20") -> Package:
    package, _ = make_package(demo, [tuple(chosen.split(" ", 1))], ABOUT, parameters or {}, lambda reference: changed, alone)  # type: ignore[list-item]
    return read_package(package.files)  # as it comes out of its zip


def here(*definitions: Definition, version: str = "", untouched: frozenset[tuple[str, str]] = frozenset()) -> Here:
    return Here(Catalogue(definitions), lambda reference: "2026-11-25", version, untouched, TODAY)


def registry() -> Definition:
    return read_definition("backend: registry\nengine: postgresql\n")


def ids(found: Fit, code: str) -> list[str]:
    return [one.id for one in found.mismatches if one.code == code]


def test_a_package_has_all_that_its_service_needs_and_says_what_it_has_not(demo: Catalogue) -> None:
    package = made(demo)
    assert sorted(package.texts) == [
        "objects/operator.yaml", "objects/passage.yaml", "objects/vessel.yaml", "records/ItemError.yaml", "records/PassageItem.yaml", "services/PassageStatus.yaml",
        "types/Direction.yaml", "types/OperatorNumber.yaml", "types/PassageNumber.yaml", "types/Registration.yaml", "types/VesselKind.yaml",
        "types/VesselStatus.yaml", "workflows/passage-statuses.yaml"]
    assert [(one.name, one.engine) for one in package.manifest.backends] == [("registry", "sqlite")]
    found = fit(package, {}, {}, here(registry()))
    assert [one.state for one in found.parts] == ["new"] * len(package.texts)
    assert found.mismatches == []  # postgresql is of the family of sqlite
    assert problems_after(found, Catalogue([registry()])) == []


def test_taken_in_where_it_came_from_nothing_changes(demo: Catalogue) -> None:
    found = fit(made(demo), {}, {}, here(*demo))
    assert {one.state for one in found.parts} == {"same"}
    assert (found.mismatches, found.definitions) == ([], [])


def test_names_that_are_taken_are_renamed_with_everything_that_names_them(demo: Catalogue) -> None:
    others = [registry(), read_definition("record: PassageItem\nfields: {other: {type: string}}\n"),
              read_definition("workflow: passage-statuses\noutput: {a: {type: int}}\nsteps: {answer: {reply: {a: 1}}}\n"),
              read_definition("type: PassageNumber\nbase: int\n")]
    found = fit(made(demo), {}, {}, here(*others))
    assert ids(found, "package.taken") == ["record PassageItem", "type PassageNumber", "workflow passage-statuses"]
    assert len(found.open) == 3
    with pytest.raises(ProblemError, match="another record of this name"):
        need_choices(found)
    made_here = {(one.kind, one.name): one for one in found.definitions}
    assert {("record", "PassageItem2"), ("type", "PassageNumber2"), ("workflow", "passage-statuses-2")} <= set(made_here)
    workflow = write_definition(made_here["workflow", "passage-statuses-2"])
    assert "type: PassageItem2" in workflow
    assert "type: PassageNumber2" in workflow
    assert "runs: workflow passage-statuses-2" in write_definition(made_here["service", "PassageStatus"])
    assert "type: PassageNumber2" in write_definition(made_here["object", "passage"])
    assert problems_after(found, Catalogue(others)) == []


def test_choices_about_a_name_that_is_taken(demo: Catalogue) -> None:
    other = read_definition("record: PassageItem\nfields: {other: {type: string}}\n")
    kept = fit(made(demo), {}, {"record PassageItem": "keep"}, here(registry(), other))
    assert "PassageItem" not in [one.name for one in kept.definitions]
    assert problems_after(kept, Catalogue([registry(), other])) != []  # ours is another record, so it does not fit
    replaced = fit(made(demo), {}, {"record PassageItem": "replace"}, here(registry(), other))
    assert "PassageItem" in [one.name for one in replaced.definitions]
    named = fit(made(demo), {}, {"record PassageItem": "rename StatusOfPassage"}, here(registry(), other))
    assert "StatusOfPassage" in [one.name for one in named.definitions]
    need_choices(named)
    own = fit(made(demo), {}, {}, here(registry(), other, untouched=frozenset({("record", "PassageItem")})))
    assert own.mismatches[0].proposal == "replace"  # it came from this package, and nobody changed it


def test_backends_namespaces_versions_and_ages(demo: Catalogue) -> None:
    store = read_definition("backend: store\nengine: mariadb\n")
    found = fit(made(demo), {}, {}, here(store))
    assert [(one.id, one.proposal) for one in found.mismatches] == [("backend registry", "use store")]
    assert "backend: store" in write_definition(next(one for one in found.definitions if one.name == "passage"))
    other = fit(made(demo), {}, {}, here(read_definition("backend: registry\nengine: http\n")))
    assert (other.mismatches[0].id, other.mismatches[0].stops) == ("backend registry", True)
    empty = fit(made(demo), {}, {}, here())
    assert empty.mismatches[0].proposal == "define"
    assert ("backend", "registry") in {(one.kind, one.name) for one in empty.definitions}
    ours = [read_definition(f"service: {name}\nnamespace: urn:otherplace:{name.lower()}\n") for name in ("One", "Two", "Three")]
    spaced = fit(made(demo), {}, {}, here(registry(), *ours))
    [space] = [one for one in spaced.mismatches if one.code == "package.namespace"]
    assert space.proposal == "use urn:otherplace:passage-status"
    assert "namespace: urn:otherplace:passage-status" in write_definition(next(one for one in spaced.definitions if one.kind == "service"))
    theirs = read_definition("service: Elsewhere\nnamespace: urn:larkmere:passage-status\n")
    assert ids(fit(made(demo), {}, {}, here(registry(), theirs)), "package.namespace") == ["namespace PassageStatus"]
    old = fit(made(demo, changed="2023-01-01"), {}, {}, here(registry(), version="1.10"))
    assert ids(old, "package.older") == ["package statuses"]
    assert len(ids(old, "package.old")) == len(old.parts)
    assert not ids(fit(made(demo), {}, {}, here(registry(), version="1.2")), "package.older")


def test_stubs_and_parts_that_do_nothing_are_named(demo: Catalogue) -> None:
    constant = read_definition("workflow: always\ninput: {a: {type: int}}\noutput: {b: {type: int}}\nsteps: {answer: {reply: {b: 1}}}\n")
    service = read_definition("service: Always\noperations: {Ask: {runs: workflow always}, Later: {runs: contract notice-board.Later}}\n")
    package = made(Catalogue([constant, service]), "service Always")
    found = fit(package, {}, {}, here(registry()))
    assert {one.name: one.hollow for one in found.parts if one.hollow} == {
        "always": "It calls nothing, and answers the same whatever it is asked.", "Always": "Later is a stub, and answer samples."}
    assert ids(found, "package.missing") == ["contract notice-board"]
    with pytest.raises(ProblemError, match="needs it"):
        need_choices(found)


def test_what_was_made_by_a_newer_version_or_changed_since_is_refused(demo: Catalogue) -> None:
    files = made(demo).files
    newer = {**files, MANIFEST: files[MANIFEST].replace(b"form: 1", b"form: 2\ncolours: all")}
    with pytest.raises(ProblemError) as error:
        read_package(newer)
    assert (error.value.problem.code, error.value.problem.found) == ("package.newer", "2")
    path = "workflows/passage-statuses.yaml"
    with pytest.raises(ProblemError) as changed:
        read_package({**files, path: files[path] + b"at_once: 3\n"})
    assert (changed.value.problem.code, changed.value.problem.place) == ("package.changed", path)
    with pytest.raises(ProblemError) as lost:
        read_package({name: one for name, one in files.items() if name != path})
    assert lost.value.problem.code == "package.part"
    for content, code in ((b"", "yaml.mapping"), (b"package: a\nversion: one\n", "definition.name"), (b"a: [", "yaml.syntax")):
        with pytest.raises(ProblemError) as wrong:
            read_package({MANIFEST: content})
        assert wrong.value.problem.code == code
    with pytest.raises(ProblemError, match="no package"):
        read_package({"other.yaml": b""})


def test_words_become_parameters_and_are_filled_in(demo: Catalogue) -> None:
    parameters = {"PassageStatus": PackageParameter(name="service", sample="PassageStatus"),
                  "passage-statuses": PackageParameter(name="flow", sample="passage-statuses")}
    package = made(demo, parameters=parameters)
    assert "services/<<service>>.yaml" in package.texts
    assert "runs: workflow <<flow>>" in package.texts["services/<<service>>.yaml"]
    assert "urn:larkmere:<<service:kebab>>" in package.texts["services/<<service>>.yaml"]
    found = fit(package, {"service": "WhereAreThey", "flow": "where-are-they"}, {}, here(*demo))
    assert [(one.kind, one.name) for one in found.definitions] == [("service", "WhereAreThey"), ("workflow", "where-are-they")]
    assert "urn:larkmere:where-are-they" in write_definition(found.definitions[0])
    for values, place in (({"service": "1x"}, "service"), ({"colour": "red"}, "colour")):
        with pytest.raises(ProblemError) as error:
            filled(package, values)
        assert error.value.problem.place == place
    with pytest.raises(ProblemError, match="stands nowhere"):
        made(demo, parameters={"aqueduct": PackageParameter(name="a")})


def test_a_place_that_nothing_fills_is_a_mistake_of_the_package() -> None:
    text = "workflow: <<nobody>>\n"
    manifest = f"package: p\nversion: '1'\ndate: 2026-11-28\nparts: [{{path: a.yaml, digest: {digest(text.encode())}, changed: 2026-11-28}}]\n"
    with pytest.raises(ProblemError) as error:
        filled(read_package({MANIFEST: manifest.encode(), "a.yaml": text.encode()}), {})
    assert (error.value.problem.code, error.value.problem.found) == ("package.place", "<<nobody>>")


def test_an_environment_goes_into_no_package(demo: Catalogue) -> None:
    with pytest.raises(ProblemError, match="belongs to its installation"):
        made(demo, "environment live")
    with pytest.raises(ProblemError, match="no such"):
        made(demo, "workflow nobody")


def test_without_what_it_needs_it_says_so(demo: Catalogue) -> None:
    package = made(demo, alone=True)
    assert list(package.texts) == ["services/PassageStatus.yaml"]
    assert package.manifest.definitions == ("workflow passage-statuses",)


def test_a_word_that_only_reads_like_a_name_stays_what_it_is(demo: Catalogue) -> None:
    """`vessel` is an object, a field of answers, and a word of descriptions."""
    workflow = demo.find(("workflow", "book-passage"))
    assert workflow is not None
    assert ("object", "vessel") in references_of(workflow)
    changed = write_definition(renamed(workflow, {("object", "vessel"): "boat"}))
    assert "call: boat.get" in changed
    assert ".vessel." in changed
    assert ("object", "vessel") not in references_of(renamed(workflow, {("object", "vessel"): "boat"}))
    for one in demo:  # and nothing of what it names changes by giving it its own name
        assert renamed(one, {reference: reference[1] for reference in references_of(one)}) == one


def test_the_packages_of_the_demo_fit_it(demo: Catalogue) -> None:
    names = []
    for content in demo_packages():
        package = read_package(zip_files(content, (".yaml",)))
        found = fit(package, {}, {}, here(*demo))
        assert [one for one in found.mismatches if one.stops or one.options] == []
        assert problems_after(found, demo) == []
        names.append(package.manifest.package)
    assert names == ["check-act-confirm-undo", "look-up-many", "standard-message", "summarise-a-list"]


@pytest.mark.parametrize(("old", "new", "code"), [
    ("date: 2026-11-28", "date: 2026-13-28", "definition.value"),
    ("changed: 2026-11-20", "changed: yesterday", "definition.name"),
    ("version: 1.2", "version: 1.2.x", "definition.name"),
    ("origin: Larkmere Waterways", "origin: []", "definition.value"),
    ("package: statuses", "package: statuses\npackage: other", "yaml.repeated-key"),
])
def test_a_manifest_that_cannot_be_is_told_with_its_line(demo: Catalogue, old: str, new: str, code: str) -> None:
    files = made(demo).files
    text = files[MANIFEST].decode()
    assert old in text
    with pytest.raises(ProblemError) as error:
        read_package({**files, MANIFEST: text.replace(old, new, 1).encode()})
    assert error.value.problem.code == code
    assert error.value.problem.place.startswith(f"{MANIFEST}:")


def test_two_parts_that_become_one_path_are_refused() -> None:
    parts = {"a/<<one>>.yaml": "record: A\nfields: {a: {type: int}}\n", "a/<<two>>.yaml": "record: B\nfields: {a: {type: int}}\n"}
    lines = "".join(f"  - {{path: '{path}', digest: {digest(text.encode())}, changed: 2026-11-28}}\n" for path, text in parts.items())
    manifest = f"package: p\nversion: '1'\ndate: 2026-11-28\nparameters: {{one: {{sample: a}}, two: {{sample: b}}}}\nparts:\n{lines}"
    package = read_package({MANIFEST: manifest.encode(), **{path: text.encode() for path, text in parts.items()}})
    assert sorted(filled(package, {})) == ["a/a.yaml", "a/b.yaml"]
    with pytest.raises(ProblemError, match="one path"):
        filled(package, {"two": "a"})


def test_a_suite_follows_its_service_to_another_name() -> None:
    suite = read_definition("test-suite: proof\nservice: Register\ncases:\n  one: {operation: Get, values: {name: Register}}\n")
    made = renamed(suite, {("service", "Register"): "OtherRegister", ("test-suite", "proof"): "other-proof"})
    assert (made.name, made.service, made.cases[0].values) == ("other-proof", "OtherRegister", {"name": "Register"})  # type: ignore[attr-defined]
