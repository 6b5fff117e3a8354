"""Processes in WS-BPEL 2.0 as workflows: what every activity becomes, what is told with its line, and how paths are translated."""

import random
from pathlib import Path

import pytest
from lxml import etree

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.expressions.types import Of, Type, of_record
from bricola.core.kinds import registry as _registry  # noqa: F401 — the kinds are known from here on
from bricola.core.kinds.workflows.processes.documents import read_documents, read_process
from bricola.core.kinds.workflows.processes.paths import Counter, Paths
from bricola.core.kinds.workflows.processes.places import Names, Places
from bricola.core.kinds.workflows.processes.taking import Taken, take_process
from bricola.core.kinds.workflows.processes.terms import Term, UntakenError, text
from bricola.core.kinds.workflows.processes.translating import Translator
from bricola.core.kinds.workflows.shape import program_of
from bricola.core.problems import ProblemError
from bricola.core.shapes.forms import NEWEST
from tests.length import often

FOLDERS = {"towing": Path(__file__).parents[2] / "src" / "bricola" / "demo" / "samples" / "towing",
           **{name: Path(__file__).parent / "processes" / name for name in ("levels", "greeting")}}
BPEL = "http://docs.oasis-open.org/wsbpel/2.0/process/executable"


def files_of(name: str, **changes: tuple[str, str]) -> dict[str, bytes]:
    """The files of a process, with texts of the process itself changed."""
    found = {path.name: path.read_bytes() for path in FOLDERS[name].iterdir()}
    for old, new in changes.values():
        process = found[f"{name}.bpel"].decode()
        assert process.count(old) == 1, old
        found[f"{name}.bpel"] = process.replace(old, new).encode()
    return found


def taken(name: str, choices: dict[str, str] | None = None, **changes: tuple[str, str]) -> Taken:
    return take_process(files_of(name, **changes), "", "outside", {}, choices or {})


def problems_of(found: Taken) -> list[str]:
    """What the checks of workflows say of what was made."""
    files = {path: content.decode() for path, content in found.documents.files.items()}
    made = [ContractDefinition(name="outside", main=found.documents.main, files=files), *found.workflows]
    for one in found.partners:
        made += [read_definition(f"relay: {one.name}\ncontract: outside\nservice: {one.service}\nbackend: {one.name}\n"),
                 read_definition(f"backend: {one.name}\nengine: soap\n")]
    catalogue, wrong = Catalogue(made), []
    for workflow in found.workflows:
        try:
            program_of(workflow, catalogue, NEWEST)
        except ProblemError as error:
            wrong += [f"{one.place}: {one.message}" for one in error.problems]
    return wrong


def text_of(found: Taken, number: int = 0) -> str:
    return write_definition(found.workflows[number])


def test_a_process_becomes_a_sound_workflow() -> None:
    found = taken("towing")
    assert problems_of(found) == []
    made = text_of(found)
    for line in ("call: relay register.Find", "input: {registration: registration}", 'test: findVessel.vessel.kind == "tanker"',
                 "test: findVessel.vessel.lengthM > 30 and count(leg) > 2", "repeat_while: tries < 3", "for_each: leg",
                 "input: {tonnes: one_leg.tonnes, lock: one_leg.lockNumber}", "call: relay tugs.Release", "input: {number: reserveTug.number}",
                 "parallel:", "orderNumber: reserveTug.number", 'duration("PT0.1S")', "priced: legs"):
        assert line in made, line
    assert read_definition(made) == found.workflows[0]


def test_what_is_not_taken_is_told_with_its_line() -> None:
    found = taken("towing")
    lines = files_of("towing")["towing.bpel"].decode().splitlines()
    told = {one.what: one for one in found.left}
    assert lines[told["receive maybeCancelled"].line - 1].strip().startswith('<receive name="maybeCancelled"')
    assert "doXslTransform" in lines[told["copy in sheet"].line - 1]
    assert "style sheet" in told["copy in sheet"].why
    assert (told["copy in sheet"].taken, told["while rounds"].taken) == (False, True)


def test_ends_that_are_no_answer_are_proposed_and_chosen() -> None:
    [end] = taken("towing").endings
    assert (end.options, end.proposal, end.chosen) == (("reply", "fail Refused", "fail problem"), "fail Refused", "")
    other = taken("towing", {end.id: "fail problem"})
    assert other.endings[0].chosen == "fail problem"
    assert "fail: problem" in text_of(other)
    assert problems_of(other) == []
    wrong = taken("towing", {end.id: "fail Nothing"})
    assert wrong.endings[0].chosen == ""  # what is not offered is no choice


def test_messages_of_types_links_loops_and_faults_inside() -> None:
    found = taken("levels")
    assert problems_of(found) == []
    assert [one.operation for one in found.workflows] == ["Watch", "State"]
    watch, state = text_of(found), text_of(found, 1)
    for line in ("at_once: 8", 'collect: \'{"gauge":', "found: {one:", "last(told.station.reading).level.value"):
        assert line in watch, line
    assert "repeat_while: not (rounds >= 1)" in state
    assert "detail: {code: caught.detail.gaugeCode}" in state
    assert {one.what for one in found.endings} == {"GetLevel ends with UnknownGauge, which nothing catches", "The process stops here without an answer"}


def test_what_only_one_way_gives_is_not_there_on_others() -> None:
    """A text that is set under a condition must not be there without it."""
    state = text_of(taken("levels"), 1)
    assert {"test: goes_low", "test: goes_high", "state: state"} <= {one.strip(" {}").partition(",")[0] for one in state.replace("reply: {", "\n").splitlines()}
    assert [state.count(f"set: {{state: '\"{one}\"'}}") for one in ("high", "low", "unknown")] == [1, 1, 1]


@pytest.mark.parametrize(("old", "new", "told"), [
    ("<wait><for>'PT0.1S'</for></wait>", "<extensionActivity><own xmlns='urn:own'/></extensionActivity>", "extensionActivity"),
    ("<wait><for>'PT0.1S'</for></wait>", "<wait><for>$request.payload/t:nothing</for></wait>", "for of wait"),
    ("<wait><for>'PT0.1S'</for></wait>", '<invoke name="lost" partnerLink="nobody" operation="Go"/>', "invoke lost"),
    ("<wait><for>'PT0.1S'</for></wait>", "<assign><copy><from>//t:leg</from><to variable='tries'/></copy></assign>", "copy in assign"),
    ("<wait><for>'PT0.1S'</for></wait>", "<assign><extensionAssignOperation/></assign>", "extensionAssignOperation"),
    ("<condition>$tries &lt; 3</condition>", "<condition>$tries &lt;</condition>", "condition of while"),
    ("<else><empty/></else>", "<else><compensateScope target='reserved'/></else>", "compensateScope"),
])
def test_nothing_is_left_out_in_silence(old: str, new: str, told: str) -> None:
    found = taken("towing", one=(old, new))
    assert told in {one.what for one in found.left}
    assert all(one.line > 0 and one.why for one in found.left)


COUNT = "<bpel:finalCounterValue>count($many.gauges/code)</bpel:finalCounterValue>"


@pytest.mark.parametrize(("text", "loops"), [
    (" count( $many.gauges/code ) ", True), ("count($many.gauges/code) - count($many.gauges/code)", False), ("count($many.gauges/code) - 1", False)])
def test_a_loop_goes_through_a_list_only_where_it_counts_nothing_else(text: str, loops: bool) -> None:
    made = text_of(taken("levels", final=(COUNT, COUNT.replace("count($many.gauges/code)", text))))
    assert ("for_each: numbers(1, " not in made) is loops
    assert ("input: {gaugeCode: one_" in made) is loops


@pytest.mark.parametrize(("source", "told"), [("$gone/code", False), ("bpel:doXslTransform('a.xsl', $rounds)", True)])
def test_only_what_is_missing_may_be_ignored(source: str, told: bool) -> None:
    old = "<bpel:copy><bpel:from>$code</bpel:from><bpel:to>$ask.body/tel:gaugeCode</bpel:to></bpel:copy>"
    more = f'<bpel:copy ignoreMissingFromData="yes"><bpel:from>{source}</bpel:from><bpel:to variable="state"/></bpel:copy>'
    found, plain = (taken("levels", more=(old, one)) for one in (old + more, old))
    assert (len(found.left) > len(plain.left)) is told


def test_values_with_which_variables_begin_and_skeletons_of_messages() -> None:
    found = taken("greeting")
    assert (problems_of(found), found.left, found.endings) == ([], (), ())
    assert "set: {outputResult: '\"Hello \" + input + \" \" + \"3\"'}" in text_of(found)
    assert "set: {outputResult: '\"nobody\"'}" in text_of(found)


def test_a_process_that_calls_its_caller_back() -> None:
    files = files_of("greeting")
    contract, process = files["GreetingArtifacts.wsdl"].decode(), files["greeting.bpel"].decode()
    callback = ('<portType name="Back"><operation name="onResult"><input message="tns:GreetingResponseMessage"/></operation></portType>')
    contract = contract.replace('<output message="tns:GreetingResponseMessage"/></operation></portType>', f"</operation></portType>{callback}").replace(
        '<output><soap:body use="literal"/></output>', "").replace("<plnk:role ", '<plnk:role name="Asker" portType="tns:Back"/><plnk:role ')
    process = process.replace('myRole="GreetingProvider"', 'myRole="GreetingProvider" partnerRole="Asker"').replace(
        '<bpel:reply name="replyOutput" partnerLink="client" portType="tns:Greeting" operation="process" variable="output"/>',
        '<bpel:invoke partnerLink="client" operation="onResult" inputVariable="output"/>')
    found = take_process({"greeting.bpel": process.encode(), "GreetingArtifacts.wsdl": contract.encode()}, "", "outside", {}, {})
    assert problems_of(found) == []
    assert "answers: nothing" in text_of(found)
    assert "call: relay client.onResult" in text_of(found)
    assert "calls its caller back" in found.left[0].why


def test_what_no_message_begins_is_begun_by_a_call() -> None:
    files = {name: one for name, one in files_of("towing").items() if not name.endswith(".bpel")}
    files["nightly.bpel"] = f"""<process name="NightlyRelease" xmlns="{BPEL}" xmlns:t="urn:larkmere:towing" xmlns:p="urn:larkmere:partners"
        xmlns:xs="http://www.w3.org/2001/XMLSchema">
      <partnerLinks><partnerLink name="tugs" partnerLinkType="t:TugLink" partnerRole="tugs"/></partnerLinks>
      <variables><variable name="number" type="xs:string"/><variable name="in" messageType="p:ReleaseIn"/></variables>
      <sequence>
        <extensionActivity><own:everyNight xmlns:own="urn:own" at="02:00"/></extensionActivity>
        <assign><copy><from>$number</from><to>$in.body/p:number</to></copy></assign>
        <invoke partnerLink="tugs" operation="Release" inputVariable="in"/>
        <if><condition>$number = ''</condition><exit/></if>
      </sequence></process>""".encode()
    found = take_process(files, "", "outside", {}, {})
    assert problems_of(found) == []
    assert (found.service, dict(found.operations)) == ("", {"NightlyRelease": "nightly-release"})
    made = text_of(found)
    for line in ("number: {type: string", "input: {number: number}", "reply: {done: True}", "fail: problem"):
        assert line in made, line
    assert [(one.what, one.taken) for one in found.left] == [("start", True), ("extensionActivity", False)]
    assert [one.proposal for one in found.endings] == ["reply", "fail problem"]


@pytest.mark.parametrize("name", FOLDERS)
@pytest.mark.parametrize("seed", range(often(15, 1_000)))
def test_whatever_is_wrong_in_a_process_is_told(name: str, seed: int) -> None:
    """Parts taken out, doubled or changed at random: it is taken, with what is left, or refused; nothing else happens."""
    chance = random.Random(seed)
    files = files_of(name)
    for _ in range(chance.randint(1, 4)):
        path = chance.choice([one for one in files if one.endswith(".wsdl")]) if chance.random() < 0.35 else f"{name}.bpel"
        root = etree.fromstring(files[path])
        _spoil(chance, [one for one in root.iter(tag=etree.Element) if one is not root])
        files[path] = etree.tostring(root)
    try:
        problems_of(take_process(files, "", "outside", {}, {}))
    except ProblemError as error:
        assert error.problem.message


def _spoil(chance: random.Random, nodes: list[etree._Element]) -> None:
    node, what, other = chance.choice(nodes), chance.random(), chance.choice(nodes)
    parent = node.getparent()
    if what < 0.35 and parent is not None:
        parent.remove(node)
    elif what < 0.75 and node.attrib:
        name = chance.choice(sorted(node.attrib))
        if what < 0.6:
            del node.attrib[name]
        else:
            node.set(name, chance.choice(["", "x", "t:nothing", "no", "desk"]))
    elif what < 0.85:
        node.text = chance.choice(["", "1", "$x", "'", "//a", "count()"])
    elif other is not node and node not in other.iterancestors():
        node.append(etree.fromstring(etree.tostring(other)))


@pytest.mark.parametrize(("change", "code"), [
    ((BPEL, "http://schemas.xmlsoap.org/ws/2003/03/business-process/"), "process.language"),
    ((BPEL, "http://docs.oasis-open.org/wsbpel/2.0/process/abstract"), "process.language"),
    (('myRole="desk"', ""), "process.start"),
    (("</process>", ""), "xml.syntax"),
])
def test_what_is_no_process_is_refused(change: tuple[str, str], code: str) -> None:
    files = files_of("towing")
    files["towing.bpel"] = files["towing.bpel"].decode().replace(*change).encode()
    with pytest.raises(ProblemError) as error:
        take_process(files, "", "outside", {}, {})
    assert error.value.problem.code == code
    assert error.value.problem.place.startswith("towing.bpel") or code == "process.start"


def test_without_wsdl_or_with_two_processes() -> None:
    files = files_of("towing")
    with pytest.raises(ProblemError, match="No WSDL"):
        take_process({"towing.bpel": files["towing.bpel"]}, "", "outside", {}, {})
    with pytest.raises(ProblemError, match="Several"):
        take_process({**files, "other.bpel": files["towing.bpel"]}, "", "outside", {}, {})
    assert take_process({**files, "other.bpel": files["towing.bpel"]}, "other.bpel", "outside", {}, {}).workflows


@pytest.fixture
def paths() -> Paths:
    files = files_of("towing")
    process, path = read_process(files)
    documents = read_documents({name: one for name, one in files.items() if name != path}, process)
    translator = Translator(process, documents, None, None, None, {}, {})
    places = Places(translator.places.variables, Names(()))
    places.bound["request",] = Term("", of_record(documents.contract.element("{urn:larkmere:towing}order")), True, True)
    places.bound["findOut",] = Term("found", of_record(documents.contract.element("{urn:larkmere:partners}findResponse")), True, True)
    places.bound["tries",] = Term("tries", Type(Of.WHOLE))
    made = Paths(documents, places)
    made.counters["i"] = Counter(Term("i + 1", Type(Of.WHOLE), False))
    return made


@pytest.mark.parametrize(("path", "expression"), [
    ("$request.payload/t:registration", "registration"),
    ("$request.payload/t:leg/t:tonnes", "[one.tonnes for one in leg]"),
    ("$request.payload/t:leg[1]/t:tonnes", "leg[0].tonnes"),
    ("$request.payload/t:leg[last()]/t:tonnes", "last(leg).tonnes"),
    ("$request.payload/t:leg[$i]/t:lockNumber", "leg[i].lockNumber"),
    ("$request.payload/t:leg[t:lockNumber = 3]/t:tonnes", "[one1.tonnes for one1 in [each for each in leg if each.lockNumber == 3]]"),
    ("$request.payload/t:leg[@urgent = 'true']", '[each for each in leg if each.urgent is not None and each.urgent == True]'),
    ("sum($request.payload/t:leg/t:tonnes)", "sum([one.tonnes for one in leg])"),
    ("count($request.payload/t:leg) > 2 and $tries < 3", "count(leg) > 2 and tries < 3"),
    ("($tries + 1) * 2", "(tries + 1) * 2"),
    ("-$tries mod 2", "(-tries) % 2"),
    ("$tries div 2", "tries / 2"),
    ("concat($request.payload/t:registration, '-', $tries)", 'registration + "-" + text(tries)'),
    ("concat('x', $request.payload/t:remark)", '"x" + coalesce(remark, "")'),
    ("$request.payload/t:remark = 'now'", 'remark is not None and remark == "now"'),
    ("not($request.payload/t:remark)", "not (remark is not None)"),
    ("$request.payload/t:leg/t:tonnes > 90", "any(each > 90 for each in [one.tonnes for one in leg])"),
    ("$findOut.body/p:vessel/p:lengthM = '20.5'", "found.vessel.lengthM == 20.5"),
    ("$findOut.body/p:vessel/p:name > 5", "decimal(found.vessel.name) > 5"),
    ("substring($request.payload/t:registration, 4, 2)", "registration[3:5]"),
    ("contains(upper-case($findOut.body/p:vessel/p:name), 'WAG')", 'contains(upper(found.vessel.name), "WAG")'),
    ("string-length(normalize-space($request.payload/t:registration))",
     'length(join([word for word in split(registration, " ") if word != ""], " "))'),
    ("if ($tries > 3) then 'many' else 'few'", '"many" if (tries > 3) else "few"'),
    ("true() or $tries = 1", "True or tries == 1"),
    ("number($findOut.body/p:vessel/p:lengthM)", "found.vessel.lengthM"),
    ("current-dateTime()", "call.at"),
    ("bpel:getVariableProperty('request', 't:vessel')", "registration"),
])
def test_paths(paths: Paths, path: str, expression: str) -> None:
    prefixes = {"t": "urn:larkmere:towing", "p": "urn:larkmere:partners", "bpel": BPEL}
    assert paths.term(path, prefixes).text == expression


@pytest.mark.parametrize("path", [
    "//t:leg", "$request.payload/../x", "$request.payload/t:none", "$nobody", "$request.none", "$response.payload/t:legs", "1 +", "",
    "$request.payload/t:leg | $tries", "document('x')", "$findOut.body/p:vessel", "q:unknown($tries)", "substring-after('a', 'b')",
    "preceding-sibling::t:leg", "$tries[2]",
])
def test_paths_that_have_no_counterpart_say_so(paths: Paths, path: str) -> None:
    with pytest.raises(UntakenError) as error:
        text(paths.term(path, {"t": "urn:larkmere:towing", "p": "urn:larkmere:partners"}))
    assert str(error.value).endswith(".")
