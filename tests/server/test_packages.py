"""Packages at a running service: made, carried to another one, taken in there, and used as templates."""

import base64
import io
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from bricola.client import Client, ProblemError
from tests.commands import run_command
from tests.serving import Served, serving

DEFINITIONS = {
    "Line.yaml": "record: Line\nfields: {code: {type: string}, amount: {type: decimal}}\n",
    "sum-lines.yaml": "workflow: sum-lines\ninput: {line: {type: Line, repeats: true, at_most: 100}}\noutput: {amount: {type: decimal}}\n"
                      "steps: {answer: {reply: {amount: sum(one.amount for one in line)}}}\n",
    "Sums.yaml": "service: Sums\nnamespace: urn:larkmere:sums\noperations: {Add: {runs: workflow sum-lines}}\n",
}


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    with serving(tmp_path_factory.mktemp("here")) as made:
        made.client().apply(DEFINITIONS)
        yield made


@pytest.fixture(scope="module")
def elsewhere(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    with serving(tmp_path_factory.mktemp("there")) as made:
        yield made


def content_of(served: Served, version: str = "1.0") -> bytes:
    return base64.b64decode(served.client().make_package("sums", version, ["service Sums"], "Adds lines")["content"])


def test_from_one_installation_to_another(served: Served, elsewhere: Served) -> None:
    there = elsewhere.client()
    there.apply({"Line.yaml": "record: Line\nfields: {other: {type: int}}\n"})
    plan = there.plan_package(content_of(served))
    assert (plan["applied"], plan["origin"], plan["version"]) == (False, "Larkmere Waterways", "1.0")
    assert {one["name"]: one["state"] for one in plan["parts"]} == {"Line": "renamed", "Sums": "new", "sum-lines": "new"}
    assert list(there.export()) == ["Line.yaml"]  # a plan changes nothing
    with pytest.raises(ProblemError) as error:
        there.take_package(content_of(served))
    assert (error.value.problem.code, error.value.problem.place) == ("package.taken", "record Line")
    taken = there.take_package(content_of(served), align=True)
    assert taken["problems"] == []
    assert "type: Line2" in there.export()["workflows/sum-lines.yaml"]
    [kept] = there.packages()
    assert {one["name"]: one["state"] for one in kept["made_here"]} == {"Line2": "as it came", "Sums": "as it came", "sum-lines": "as it came"}
    there.apply({"services/Sums.yaml": there.export()["services/Sums.yaml"] + "owner: Toll office\n"})
    assert {one["name"]: one["state"] for one in there.packages()[0]["made_here"]}["Sums"] == "changed since"
    later = there.plan_package(content_of(served, "1.1"))
    proposals = {one["id"]: one["proposal"] for one in later["mismatches"]}
    assert proposals["service Sums"] == "rename"  # somebody's work is never replaced unasked
    there.take_package(content_of(served, "1.1"), choices=proposals | {"service Sums": "replace"})
    assert "owner" not in there.export()["services/Sums.yaml"]
    assert there.plan_package(content_of(served, "1.0"))["mismatches"][0]["code"] == "package.older"
    assert any(one["action"] == "take in" and one["subject"] == "package sums" for one in there.audit())


def test_only_whole_packages_are_kept(served: Served) -> None:
    content = content_of(served)
    broken = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as old, zipfile.ZipFile(broken, "w") as new:
        for name in old.namelist():
            new.writestr(name, old.read(name) + (b"seconds: 3\n" if name.endswith("sum-lines.yaml") else b""))
    for wrong in (broken.getvalue(), b"no zip", content[:200]):
        with pytest.raises(ProblemError):
            served.client().keep_package(wrong)
    assert served.client().packages() == []
    assert served.client().plan_package(content)["mismatches"] == []  # a good one after them


def test_a_template_by_the_command_line(served: Served, tmp_path: Path) -> None:
    token = Client(served.url).sign_in("imke", served.password)
    environ = {"BRICOLA_TOKEN": token, "HOME": str(tmp_path), "NO_COLOR": "1", "COLUMNS": "150"}

    def command(*words: str, expect: int = 0) -> str:
        done = run_command(("packages", *words, "--at", served.url), environ)
        assert done.returncode == expect, done.stdout + done.stderr
        return done.stdout + done.stderr

    file = tmp_path / "adding.zip"
    shown = command("make", str(file), "service Sums", "--version", "2.0", "-w", "Sums=service", "-w", "sum-lines=flow", "-w", "Line=record",
                    "--keep", "--about", "Adds up what you like")
    assert "service is filled in at" in shown
    shown = command("show", "adding", "-f", "service=Tolls", "-f", "flow=add-tolls", "-f", "record=Toll")
    assert "service Tolls" in shown
    assert "+ new" in shown
    assert "no such parameter" in command("show", "adding", "-f", "colour=red", expect=1)
    assert "nobody confirmed" in command("take", "adding", "-f", "service=Tolls", expect=1)
    command("take", "adding@2.0", "-f", "service=Tolls", "-f", "flow=add-tolls", "-f", "record=Toll", "--yes")
    assert "urn:larkmere:tolls" in served.client().export()["services/Tolls.yaml"]
    assert "service Tolls" in command("list")
    assert served.client().package("adding", "2.0") == file.read_bytes()
    assert "No such package" in command("show", "nothing", expect=1)
    command("drop", "adding@2.0", "--yes")
    assert "No package is kept" in command("list")
