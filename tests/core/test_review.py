"""Every rule of the readiness review, each provoked by one change to a sound set of definitions."""

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pytest

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.kinds.objects.review import EmptyFields, UnfitRow
from bricola.core.kinds.screens.review import FilmFacts
from bricola.core.problems import Problem
from bricola.core.review import BackendFact, CredentialFact, Facts, Finding, PoolFact, all_rules, review
from bricola.core.review.page import write_page
from tests.core.outside import wsdl
from tests.core.test_workflows import WRONG as WRONG_STEPS

DAY = 86_400.0
RULES = all_rules()
FACTS = Facts(
    now=100 * DAY,
    engines={"sqlite": "", "postgresql": "", "tn3270": "", "program-host": "", "http": "", "soap": ""},
    credentials={"locks": CredentialFact("password", 400 * DAY), "board": CredentialFact("password", 400 * DAY)},
    held_roles=frozenset({"reader"}),
)
PARTS = {
    "type": r"type: Code" "\nbase: string\npattern: G\\d{2}\n",
    "record": "record: Spot\nfields:\n  east: {type: decimal, fraction: 1}\n",
    "backend": "backend: river\nengine: postgresql\n",
    "object": """
object: gauge
backend: river
table: gauge
key: [code]
change_token: row_version
fields:
  code: {type: Code, sample: G01}
  place: {type: string, min_length: 1, max_length: 20}
  grade: {type: string, codes: [A, B]}
finders:
  search:
    description: Finds gauges.
    filters:
      grade: {field: grade}
    limit: {default: 20, most: 50}
""",
    "service": """
service: GaugeBook
description: Gauges
owner: River office
namespace: urn:larkmere:gauge-book
access:
  reader: all
operations:
  GetGauge: {runs: gauge.get, description: Reads one gauge.}
  FindGauges:
    runs: gauge.search
    input:
      grade: {given: fixed, value: A}
""",
    "rehearsal": "environment: rehearsal\nbackends:\n  river: {address: 'db.larkmere.example:5432', credential: other}\n",
    "live": """
environment: live
follows: rehearsal
protected: true
address: https://services.larkmere.example
context: {}
backends:
  river:
    address: db-live.larkmere.example:5432
    database: river
    credential: locks
    tls: verify
    pool: {min_size: 2, max_size: 8, max_idle: 600}
""",
}


def findings(changes: Mapping[str, tuple[str, str]] = {}, facts: Facts = FACTS, **more: str) -> list[Finding]:
    texts = dict(PARTS) | more
    for part, (old, new) in changes.items():
        assert old in texts[part], f"the change of {part} must hit"
        texts[part] = texts[part].replace(old, new)
    catalogue = Catalogue(read_definition(text) for text in texts.values())
    service, live = catalogue.find_service("GaugeBook"), catalogue.find_environment("live")
    assert service is not None
    return review(catalogue, service, live, facts)


def in_service(old: str, new: str) -> dict[str, Any]:
    return {"changes": {"service": (old, new)}}


def in_object(old: str, new: str) -> dict[str, Any]:
    return {"changes": {"object": (old, new)}}


def in_live(old: str, new: str) -> dict[str, Any]:
    return {"changes": {"live": (old, new)}}


def with_facts(**facts: Any) -> dict[str, Any]:
    return {"facts": Facts(**({name: getattr(FACTS, name) for name in Facts.__dataclass_fields__} | facts))}


SQLITE = {
    "backend": ("postgresql", "sqlite"),
    "live": (
        "    address: db-live.larkmere.example:5432\n    database: river\n    credential: locks\n    tls: verify\n",
        "    file: live/river.db\n",
    ),
}
MORE = "  FindGauges:"
HALF = """
workflow: half
input: {number: {type: int}, spots: {type: Spot, repeats: true}}
output: {half: {type: int}}
faults: {Odd: {}}
steps:
  odd: {fail: Odd, only_if: number % 2 == 1 and count(spots) < 9}
  answer: {reply: {half: number // 2}}
"""
WRITE = {
    "service": (
        MORE,
        "  CreateGauge:\n    runs: gauge.create\n    description: Enters one.\n    input: {place: {sample: Weir}, grade: {sample: A}}\n"
        + MORE,
    )
}
QUERY = """
query: levels
backend: river
select: SELECT code, place, level FROM reading WHERE at > :since
prompts: {since: {type: date, sample: 2026-01-01, binds: next-day}}
columns: {code: {type: Code}, place: {type: string}, level: {type: decimal, digits: 5, fraction: 2}}
filters: {place: {field: place}}
key: [code]
groups: [place]
measures: {highest: {type: decimal, of: greatest, column: level}}
totals: {all: {sum: highest}}
"""
LEVELS = (MORE, "  GetLevels: {runs: query levels, description: Levels.}\n" + MORE)


def in_query(old: str, new: str) -> dict[str, Any]:
    assert old in QUERY
    return {"query": QUERY.replace(old, new), "changes": {"service": LEVELS}}


FLOW = """
screen-flow: level
backend: gate
writes: false
input: {code: {type: Code, sample: G01}, most: {type: int, default: 20}}
output: {height: {type: decimal, fraction: 2}, day: {type: date, required: false}, line: {type: Spot, repeats: true}, complete: {type: boolean}}
faults: {Unknown: {fields: code}}
screens:
  shown:
    marks: [{row: 1, column: 2, text: LEVEL}]
    places: {height: {row: 3, column: 9}, day: {row: 4, column: 9, dates: DD/MM/YY}, from: {row: 5, column: 9}}
    lists: {lines: {rows: [8, 15], columns: {east: {column: 2, length: 9}}, press: PF8, ends: [{row: 20, text: END}]}}
moves:
- {on: home, fill: {code: {input: code}}, press: Enter, expect: [{screen: shown}, {screen: home, message: unknown, fault: Unknown}]}
- {on: shown, read: [height, day], collect: {list: lines, into: line, most: most, complete: complete}}
"""
GATE = """
backend: gate
engine: tn3270
terminal:
  start: home
  screens:
    home:
      marks: [{row: 1, column: 2, text: HOME}, {row: 5, column: 30, field: hidden}]
      places: {code: {row: 5, column: 20}, pass: {row: 5, column: 30}}
      message: {row: 24, column: 2}
  leave: {press: PF12}
"""
GATES = "  gate: {address: 'gate.larkmere.example:992', tls: verify}\n"
WALKED = {"service": (MORE, "  GetLevel: {runs: screen-flow level, description: A level.}\n" + MORE),
          "rehearsal": ("backends:\n", "backends:\n" + GATES), "live": ("backends:\n", "backends:\n" + GATES)}


def in_flow(old: str, new: str, gate: str = GATE) -> dict[str, Any]:
    assert old in FLOW
    return {"flow": FLOW.replace(old, new), "gate": gate, "changes": WALKED}


def in_gate(old: str, new: str) -> dict[str, Any]:
    assert old in GATE
    return in_flow("level", "level", GATE.replace(old, new))


def in_gates(new: str) -> dict[str, Any]:
    return {"flow": FLOW, "gate": GATE, "changes": WALKED | {"live": ("backends:\n", "backends:\n" + new)}}


SUM = """
program: sum
backend: office
calls: SUM
areas: {area: {copybook: sum-area}}
input: {number: {type: int, min: '0', max: '99', item: S-NUMBER}}
output: {half: {type: int, item: S-HALF}, rows: {type: Spot, repeats: true, item: S-ROW, fields: {east: {item: S-EAST}}}}
faults: {Odd: {condition: S-ODD, message: S-TEXT, fields: number}}
"""
AREA = """
copybook: sum-area
text: |
  01 SUM-AREA.
     05 S-NUMBER PIC 99.
     05 S-CODE PIC 9. 88 S-ODD VALUE 1.
     05 S-TEXT PIC X(9).
     05 S-HALF PIC 9(4).
     05 S-KEEP PIC X(4).
     05 S-VIEW REDEFINES S-KEEP PIC 9(4).
     05 S-ROW OCCURS 0 TO 3 DEPENDING ON S-CODE.
        10 S-EAST PIC 9(6)V99.
        10 S-NORTH PIC 9(6)V99.
"""
SUMMED = {"service": (MORE, "  Sum: {runs: program sum, description: Sums.}\n" + MORE),
          "live": ("backends:\n", "backends:\n  office: {address: '127.0.0.1:8470'}\n")}


def in_program(old: str, new: str, **more: str) -> dict[str, Any]:
    assert old in SUM
    return {"program": SUM.replace(old, new, 1), "area": AREA, "office": "backend: office\nengine: program-host\n", "changes": SUMMED} | more


def in_area(old: str, new: str) -> dict[str, Any]:
    assert old in AREA
    return in_program("sum", "sum", area=AREA.replace(old, new, 1))


def in_office(new: str) -> dict[str, Any]:
    return in_program("sum", "sum") | {"changes": SUMMED | {"live": ("backends:\n", "backends:\n" + new)}}


DEPTH = """
routine: level
backend: river
calls: level_of
form: procedure
parameters:
  p_code: {declared: varchar(8)}
  p_back: {declared: int, way: in-out}
  p_mode: {declared: text, optional: true}
  p_level: {declared: 'numeric(6,2)', way: out}
input: {code: {type: Code, parameter: p_code}, back: {type: int, parameter: p_back}}
fixed: {p_mode: day}
output: {level: {type: decimal, fraction: 2, parameter: p_level}}
faults: {Dry: {states: 45D01, fields: code}}
"""
DEPTHS = {"service": ("gauge.get, description: Reads one gauge.}", "gauge.get, description: Reads one gauge.}\n  Level: {runs: routine level, description: Tells.}")}


def in_routine(old: str, new: str) -> dict[str, Any]:
    assert old in DEPTH
    return {"routine": DEPTH.replace(old, new, 1), "changes": DEPTHS}


BOARD = ("  board: {{address: '{0}', credential: {1}, sign_in: {2}{3}}}\n")


def in_relay(address: str = "https://board.example/x", credential: str = "board", sign_in: str = "basic", more: str = "", relay: str = "",
             runs: str = "relay board.Ask", schema: str = "") -> dict[str, Any]:
    """The service with the contract of somebody else, sent on to them."""
    ask = '<xs:element name="Ask"><xs:complexType><xs:sequence/></xs:complexType></xs:element><xs:element name="AskResponse" type="xs:string"/>'
    contract = ContractDefinition(name="theirs", main="a.wsdl", files={"a.wsdl": wsdl(ask + schema)})
    service = ("service: GaugeBook\ndescription: Gauges\nowner: River office\ncontract: theirs\naccess:\n"
               f"  reader: all\noperations:\n  Ask: {{runs: {runs}, description: Asks.}}\n")
    bound = "backends:\n" + BOARD.format(address, credential, sign_in, more)
    return {"contract": write_definition(contract), "service": service, "board": "backend: board\nengine: soap\n",
            "relay": f"relay: board\ncontract: theirs\nbackend: board\n{relay}",
            "changes": {"rehearsal": ("backends:\n", "backends:\n  board: {address: 'https://trial.example/x'}\n"), "live": ("backends:\n", bound)}}


def test_a_sound_relay_has_no_findings() -> None:
    assert findings(**in_relay()) == []


def test_a_sound_flow_has_no_findings() -> None:
    assert findings(**in_flow("level", "level")) == []


def in_steps(steps: str, given: str = "{number: {type: int, sample: 4}}", more: str = "") -> dict[str, Any]:
    """The service with an operation that runs a workflow of these steps."""
    body = "".join(f"  {line}\n" for line in steps.splitlines())
    workflow = f"workflow: halved\ninput: {given}\noutput: {{half: {{type: int}}}}\n{more}steps:\n{body}"
    return {"workflow": workflow, "half": HALF, **in_service(MORE, "  Halve: {runs: workflow halved, description: Halves.}\n" + MORE)}


def of_workflows() -> dict[str, dict[str, Any]]:
    """The first case of each code in the tables of what is wrong with workflows and their expressions."""
    found: dict[str, dict[str, Any]] = {}
    for text, code, _, _ in reversed(WRONG_STEPS):
        if code in RULES and not code.startswith("reference."):
            found[code] = in_steps(text.replace("workflow tried", "workflow halved"))
    answer = "\nd: {reply: {half: number}}"
    for text, code in (("1 +", "syntax"), (" ", "empty"), ("1" * 5000, "size"), ("(" * 90, "depth"), ("number ** 2", "not-allowed"), ("nmber", "name"), ("call.ide", "field"),
                       ("uper(call.id)", "function"), ("upper()", "argument"), ("map([1], upper)", "lambda"), ("upper(number)", "type"), ("number == call.id", "compare"),
                       ("first([]) + 1", "absent"), ("recode('a', {'b': 'c'}) == 'd'", "code"), ("date('x')", "value"), ("1 / 0", "zero"), ("matches(call.id, '(')", "pattern"),
                       ("xpath(call.id, '//a:b')", "xpath"), ("matches(call.id, call.id)", "constant"), ("{1: 2}", "record")):
        found[f"expression.{code}"] = in_steps(f"a: {{set: {{x: {json.dumps(text)}}}}}{answer}")
    for text, code in (
            ("{call: workflow half, input: {number: number, spots: '[{}]'}}", "expression.required"), ("{call: workflow half, input: {number: number, spots: {for_each: '[1]'}}}", "map.items"),
            ("{call: gauge.delete, tries: 3}", "workflow.tries"), ("{call: http river, undo: {call: gauge.get}}", "workflow.undo"), ("{call: http river, gives: Nowhere}", "workflow.record"),
            ("{session: river, steps: {b: {parallel: {c: {}}}}}", "workflow.session"), ("{read_file: river}", "workflow.file")):
        found[code] = in_steps(f"a: {text}{answer}")
    found["workflow.unused-fault"] = in_steps("d: {reply: {half: number}}", more="faults: {Late: {}}\n")
    found["workflow.no-job"] = in_steps("d: {reply: {half: number}}") | in_service(MORE, "  Halve: {runs: workflow halved.status, description: Tells.}\n" + MORE)
    found["workflow.default"] = in_steps("d: {reply: {half: number}}", "{number: {type: int, sample: 4}, spot: {type: Spot, default: '1'}}")
    found["workflow.contract-says"] = in_steps("d: {reply: {half: number}}", more="contract: theirs\noperation: Ask\n") | {"contract": in_relay()["contract"]}
    return found


CASES: dict[str, dict[str, Any]] = of_workflows() | {
    "reference.workflow": in_service("gauge.get", "workflow nowhere"),
    "service.empty": in_service(PARTS["service"][PARTS["service"].index("operations") :], "operations: {}\n"),
    "service.description": in_service("description: Gauges\n", ""),
    "service.owner": in_service("owner: River office\n", ""),
    "service.namespace": in_service("namespace: urn:larkmere:gauge-book\n", ""),
    "service.namespace-form": in_service("urn:larkmere:gauge-book", "gauge book"),
    "access.operation": in_service("reader: all", "reader: [GetGauge, FindGauges, Gone]"),
    "access.overruled": {"grants": "access: live\nservices: {GaugeBook: {reader: [GetGauge]}}\n"},
    "access.nobody": in_service("reader: all", "reader: [GetGauge]"),
    "access.unheld-role": in_service("reader: all", "reader: all\n  painter: all"),
    "reference.object": in_service("gauge.get", "weir.get"),
    "reference.verb": in_service("gauge.search", "gauge.seek"),
    "reference.type": in_object("type: Code", "type: Cod"),
    "reference.backend": in_object("backend: river", "backend: sea"),
    "reference.circle": {
        "changes": {"record": ("type: decimal", "type: Spot"), "object": ("{type: string, codes: [A, B]}", "{type: Spot}")}
    },
    "object.key": in_object("key: [code]", "key: [number]"),
    "object.column": in_object("max_length: 20", "max_length: 20, column: code"),
    "object.change-token": in_object("change_token: row_version\n", ""),
    "object.parent": in_object("max_length: 20}", "max_length: 20, parent: bank}"),
    "object.child": in_object("finders:", "children: {readings: {object: gauge, match: {name: code}}}\nfinders:"),
    "object.grandchildren": in_object("finders:", "children: {readings: {object: gauge, match: {code: code}}}\nfinders:"),
    "object.sensitive": in_object("  place:", "  email: {type: string, required: false}\n  place:"),
    "object.never-filled": with_facts(of_kind={"object": EmptyFields(frozenset({("gauge", "place")}), 10_000)}),
    "object.unfit": with_facts(of_kind={"object": EmptyFields(unfit=(UnfitRow("gauge", "grade", "code G07", "one of A, B", '"C"'),))}),
    "finder.compare": {
        "changes": {
            "object": (
                "{type: string, codes: [A, B]}\nfinders:\n  search:\n    description: Finds gauges.\n    filters:\n      grade: {field: grade}",
                "{type: int}\nfinders:\n  search:\n    description: Finds gauges.\n    filters:\n      grade: {field: grade, compare: starts}",
            ),
            "service": ("value: A}", "value: 1}"),
        }
    },
    "finder.must-exist": in_object("{field: grade}", "{field: grade, must_exist: true}"),
    "reference.query": in_service("gauge.search", "query tides"),
    "query.sql": in_query("SELECT code", "UPDATE code"),
    "query.prompt": in_query("> :since", "> :from"),
    "query.unused-prompt": in_query("> :since", "> 0"),
    "query.binds": in_query("type: date, sample: 2026-01-01", "type: int, sample: 1"),
    "query.filter": in_query("{place: {field", "{since: {field"),
    "query.column": in_query("groups: [place]", "groups: [bank]"),
    "query.measure": in_query("groups: [place]\n", ""),
    "query.total": in_query("sum: highest", "sum: place"),
    "query.unused-column": in_query("level: {type", "spare: {type: string}, level: {type"),
    "reference.screen-flow": in_service("gauge.search", "screen-flow tides"),
    "flow.backend": in_flow("backend: gate", "backend: river"),
    "flow.code-page": in_gate("  start: home", "  code_page: cp999\n  start: home"),
    "flow.screen": in_flow("{screen: shown}", "{screen: showed}"),
    "flow.mark": in_flow("text: LEVEL", "length: 3"),
    "flow.start": in_flow("- {on: home, fill: {code: {input: code}}, ", "- {on: shown, "),
    "flow.expect": in_flow("complete: complete}}", "complete: complete}, press: PF3}"),
    "flow.go": in_flow("{screen: shown}", "{screen: shown, go: after}"),
    "flow.message": in_flow("{screen: shown}", "{screen: shown, message: gone}"),
    "flow.place": in_flow("read: [height, day]", "read: [height, day, width]"),
    "flow.input": in_flow("{input: code}", "{input: number}"),
    "flow.fill": in_flow("{input: code}", "{input: code, value: G01}"),
    "flow.secret": in_flow("code: {input: code}", "code: {input: code}, pass: {value: abc}"),
    "flow.pattern": in_gate("places: {code: {row: 5, column: 20}", "places: {code: {row: 5, column: 20, pattern: '(?=x)y'}"),
    "flow.output": in_flow("read: [height, day]", "read: [height, day, from]"),
    "flow.unread": in_flow("read: [height, day]", "read: day"),
    "flow.unused-input": in_flow("{input: code}", "{value: G01}"),
    "flow.fault": in_flow("fault: Unknown", "fault: Strange"),
    "flow.unused-fault": in_flow(", fault: Unknown", ""),
    "flow.fault-field": in_flow("fields: code", "fields: height"),
    "flow.default": in_flow("{type: Code, sample: G01}", "{type: Spot, default: x}"),
    "flow.dates": in_flow("DD/MM/YY", "day"),
    "flow.list": in_flow("list: lines", "list: rows"),
    "flow.region": in_flow("rows: [8, 15]", "rows: [8, 15], lines: 3"),
    "flow.column": in_flow("{east: {column: 2, length: 9}}", "{west: {column: 2, length: 9}}"),
    "flow.endless": in_flow(", ends: [{row: 20, text: END}]", ""),
    "flow.position": in_flow("press: PF8", "position: {from: west}"),
    "flow.most": in_flow("most: most", "most: code"),
    "reference.program": in_service("gauge.get", "program nowhere"),
    "program.backend": in_program("backend: office", "backend: river"),
    "program.copybook": in_program("copybook: sum-area", "copybook: other"),
    "program.item": in_program("S-HALF", "S-HALV"),
    "program.table": in_program("item: S-HALF", "item: S-EAST"),
    "program.group": in_program("item: S-HALF", "item: SUM-AREA"),
    "program.fields": in_program("east: {item: S-EAST}", "west: {item: S-EAST}"),
    "program.dates": in_program("type: int, item: S-HALF", "type: date, dates: day, item: S-HALF"),
    "program.default": in_program("{type: int, min: '0', max: '99', item: S-NUMBER}", "{type: Spot, default: x, item: S-ROW, repeats: true, fields: {east: {item: S-EAST}}}"),
    "program.fault": in_program("condition: S-ODD, ", ""),
    "program.fault-field": in_program("fields: number", "fields: numbers"),
    "program.condition": in_program("S-ODD", "S-EVEN"),
    "program.areas": in_program("areas: {area: {copybook: sum-area}}", "areas: {area: {copybook: sum-area}, more: {copybook: sum-area}}",
                                office="backend: office\nengine: http\n") | {"changes": SUMMED | {
                                    "live": ("backends:\n", "backends:\n  office: {address: 'http://127.0.0.1:8470/x'}\n")}},
    "program.silent": in_program("faults: {Odd: {condition: S-ODD, message: S-TEXT, fields: number}}\n", ""),
    "program.room": in_program(", max: '99'", ""),
    "reference.routine": in_service("gauge.get", "routine nowhere"),
    "routine.backend": in_routine("backend: river", "backend: gate"),
    "routine.parameter": in_routine("parameter: p_code", "parameter: p_cod"),
    "routine.unfilled": in_routine("p_mode: {declared: text, optional: true}", "p_mode: {declared: text}\n  p_more: {declared: text}"),
    "routine.twice": in_routine("fixed: {p_mode: day}", "fixed: {p_mode: day, p_back: 1}"),
    "routine.simple": in_routine("back: {type: int,", "back: {type: Spot,"),
    "routine.form": in_routine("{declared: 'numeric(6,2)', way: out}", "{declared: 'numeric(6,2)', way: returns}"),
    "routine.fault": in_routine("states: 45D01, ", ""),
    "routine.says": in_routine("states: 45D01", "says: '(dry'"),
    "routine.silent": in_routine("faults: {Dry: {states: 45D01, fields: code}}\n", ""),
    "routine.room": in_routine("code: {type: Code,", "code: {type: string,"),
    "routine.own": in_routine("form: procedure", "form: procedure\ntransaction: own"),
    "copybook.syntax": in_area("88 S-ODD VALUE 1", "88 S-ODD VALUE"),
    "copybook.picture": in_area("PIC 9(4).", "PIC 9(4."),
    "copybook.clause": in_area("S-TEXT PIC", "S-TEXT PICC"),
    "copybook.level": in_area("05 S-HALF", "55 S-HALF"),
    "copybook.record": in_program("copybook: sum-area", "copybook: sum-area, record: OTHER"),
    "copybook.member": in_area("05 S-TEXT PIC X(9).", "COPY ELSEWHERE."),
    "copybook.redefines": in_area("REDEFINES S-KEEP", "REDEFINES S-HALF"),
    "copybook.occurs": in_area("0 TO 3", "4 TO 3"),
    "copybook.depending": in_area("ON S-CODE", "ON S-CODES"),
    "copybook.view": in_program("faults:", "views: {S-KEEP: {by: S-CODE, views: {'1': S-OTHER}}}\nfaults:"),
    "codepage.unknown": in_program("areas:", "held: {code_page: cp99}\nareas:"),
    "binding.program-host-sign-on": in_office("  office: {address: 'office.example:8470', credential: locks}\n"),
    "binding.devices": in_gates(GATES.replace("tls", "devices: [G1, G2], tls")),
    "binding.film": in_gates("  gate: {film: level}\n"),
    "flow.moved": in_flow("level", "level") | with_facts(of_kind={
        "screen-flow": FilmFacts(frozenset(("level",)), {"level": "shown: the text 'LEVEL', it is gone"})}),
    "flow.unfilmed": in_flow("level", "level") | with_facts(of_kind={"screen-flow": FilmFacts(frozenset(), {})}),
    "backend.unseen": with_facts(backends={"river": BackendFact(None, (Problem("backend.unseen", "It is not reached.", place="backend river"),))}),
    "credential.administrator": with_facts(backends={"river": BackendFact(1.0, powers=("SUPERUSER",), rights=("GRANT SELECT ON gauge",))}),
    "backend.unfit": with_facts(backends={"river": BackendFact(1.0, (Problem("backend.unfit", "A column went.", place="object lock"),))}),
    "parameter.context-type": in_service("{given: fixed, value: A}", "{given: context, value: now}")
    | {
        "changes": {
            "object": ("{type: string, codes: [A, B]}", "{type: int}"),
            "service": ("{given: fixed, value: A}", "{given: context, value: now}"),
        }
    },
    "operation.takes": in_service("runs: gauge.search", "runs: gauge.search\n    takes: [level]"),
    "operation.gives": in_service("runs: gauge.search", "runs: gauge.search\n    gives: [level]"),
    "operation.required": {
        "changes": {"service": (MORE, "  CreateGauge: {runs: gauge.create, description: x, takes: [code, grade]}\n" + MORE)}
    },
    "binding.read-only": {"changes": WRITE | {"live": ("tls: verify", "tls: verify\n    read_only: true")}},
    "binding.requests": {"changes": WRITE},
    "context.unused": in_live("context: {}", "context: {bank: north}"),
    "finder.name": in_object("  search:", "  get: {}\n  search:"),
    "finder.field": in_object("{field: grade}", "{field: level}"),
    "finder.filter-name": in_object("grade: {field: grade}", "grade: {field: grade}\n      limit: {field: grade}"),
    "finder.limit": in_object("default: 20, most: 50", "default: 60, most: 50"),
    "finder.unfiltered": in_object("    filters:\n      grade: {field: grade}\n", ""),
    "finder.large-page": in_object("most: 50", "most: 5000"),
    "finder.unused": in_object("  search:", "  byPlace: {order: place}\n  search:"),
    "type.base": {"changes": {"type": ("base: string", "base: text")}},
    "type.facet": in_object("min_length: 1, max_length: 20", "digits: 4"),
    "type.pattern": {"changes": {"type": (r"G\d{2}", "G[")}},
    "type.value": in_object("{type: string, codes: [A, B]}", "{type: integer, min: low}"),
    "type.bounds": in_object("min_length: 1, max_length: 20", "min_length: 30, max_length: 20"),
    "parameter.unknown": in_service("grade: {given", "level: {given"),
    "parameter.value": in_service("{given: fixed, value: A}", "{given: fixed}"),
    "parameter.fit": in_service("value: A}", "value: Z}"),
    "credential.place": with_facts(credentials={"locks": CredentialFact("password", None, frozenset({("live", "postgresql", "other:5432")}))}),
    "contract.stub": in_relay(runs="contract theirs.Ask"),
    "contract.problem": in_relay(runs="contract theirs.Ask", schema='<xs:simpleType name="X"><xs:restriction base="xs:string"><xs:pattern value="("/>'
                                 '</xs:restriction></xs:simpleType><xs:element name="Y" type="t:X"/>'),
    "contract.differs": in_relay(runs="relay board.Ask, soap_action: 'urn:other'"),
    "relay.unchecked": in_relay(relay="check: none\n"),
    "relay.operation": in_relay(relay="writes: [Tell]\n"),
    "binding.url": in_relay("board.example:80"),
    "binding.sign-in": in_relay(credential="board", sign_in="none"),
    "binding.clear-text": in_relay("http://board.example/x"),
    "binding.user-form": in_relay(more=", user_form: desk"),
    "operation.nil": in_service(MORE, "  SetGauge: {runs: gauge.update, nil: absent}\n" + MORE),
    "contract.types": in_flow("height: {type: decimal, fraction: 2}", "height: {type: decimal}"),
    "operation.description": in_object("    description: Finds gauges.\n", ""),
    "operation.sample": in_object(", sample: G01", ""),
    "operation.twin": in_service(MORE, "  ReadGauge: {runs: gauge.get, description: The same.}\n" + MORE),
    "operation.name": in_service("GetGauge", "get_gauge"),
    "contract.record": {
        "object2": PARTS["object"]
        .replace("object: gauge", "object: Gauge")
        .replace("code: {type: Code, sample: G01}", "code: {type: Code}"),
        **in_service(MORE, "  GetOther: {runs: Gauge.get}\n" + MORE),
    },
    "contract.element": in_service(MORE, "  NotFound: {runs: gauge.search, description: Badly named.}\n" + MORE),
    "contract.wrapper": in_service(MORE, "  GetGaugeResponse: {runs: gauge.search, description: Badly named.}\n" + MORE),
    "contract.case": in_service(MORE, "  Getgauge: {runs: gauge.search, description: Badly named.}\n" + MORE),
    "contract.reserved": in_object("  place:", "  class:"),
    "contract.drift": with_facts(drifted={"river-board": "GetLevel/input/code: code is not taken any more."}),
    "contract.breaking": with_facts(breaking=("GetGauge/input/code: gone.",)),
    "binding.missing": in_live("  river:\n    address: db-live.larkmere.example:5432\n", "  river:\n"),
    "binding.kind": in_live("address: db-live.larkmere.example:5432", "file: live/river.db"),
    "binding.unused": in_live("    database: river\n", "    database: river\n    devices: [RIVER1]\n"),
    "binding.file-missing": {"changes": SQLITE, **with_facts(missing_files={"river": "live/river.db"})},
    "binding.file-path": {"changes": SQLITE | {"live": (SQLITE["live"][0], "    file: ../river.db\n")}},
    "binding.sign-on": in_live("tls: verify", "tls: encrypt\n    password_as: asked"),
    "binding.own-store": {"changes": SQLITE | {"live": (SQLITE["live"][0], "    file: bricola.db\n")}},
    "binding.address": in_live("db-live.larkmere.example:5432", "'http://db-live/x'"),
    "binding.database": in_live("    database: river\n", ""),
    "binding.twice": in_live("address: db-live.larkmere.example:5432", "endpoints: {a: {address: 'db:5432'}, b: {address: 'db:5432'}}"),
    "backend.engine": with_facts(engines={"sqlite": "", "postgresql": "no adapter"}),
    "context.missing": in_service("{given: fixed, value: A}", "{given: context, value: company}"),
    "context.value": {
        "changes": {"service": ("{given: fixed, value: A}", "{given: context, value: site}"), "live": ("context: {}", "context: {site: Z}")}
    },
    "context.name": {"site": "context-list: site\nvalues: {Ashbeck: A}\n",
                     "changes": {"live": ("context: {}", "context: {site: Ashbek}")}},
    "context.pool": in_live("max_size: 8, max_idle: 600}", "max_size: 8, max_idle: 600}\n    context: {site: A}"),
    "reference.environment": in_live("follows: rehearsal", "follows: nowhere"),
    "environment.circle": {"changes": {"rehearsal": ("environment: rehearsal\n", "environment: rehearsal\nfollows: live\n")}},
    "environment.address": in_live("address: https://services.larkmere.example\n", ""),
    "environment.address-form": in_live("https://services.larkmere.example", "services.larkmere.example"),
    "environment.local-address": in_live("https://services.larkmere.example", "https://localhost:8443"),
    "request.differs": in_service("owner: River office", "owner: River office\nrequest: asked") | {"asked": "request: asked\nowner: Lock desk\n"},
    "handler.unbound": in_service("operations:\n", "unforeseen: desk\noperations:\n"),
    "handler.operation": {"changes": {"service": ("operations:\n", "unforeseen: desk\noperations:\n"),
                                      "live": ("protected: true", "protected: true\nhandlers: {desk: GaugeBook.Nobody}")}, **with_facts(live={})},
    "tests.environment": in_live("protected: true", "protected: true\ntests: {run_in: nowhere}"),
    "tests.none": in_live("protected: true", "protected: true\ntests: {suites: all}"),
    "handler.unused": in_live("protected: true", "protected: true\nhandlers: {desk: GaugeBook.GetGauge}"),
    "stored.unseen": in_live("protected: true", "protected: true\nstored_answers: {GaugeBook.GetGauge: {seconds: 30}}"),
    "stored.operation": in_live("protected: true", "protected: true\nstored_answers: {GaugeBook.Gone: {seconds: 30}}"),
    "environment.skipped": with_facts(passed=False),
    "access.anonymous": in_live("protected: true", "protected: true\nanonymous: [GaugeBook]"),
    "credential.none": in_live("    credential: locks\n", ""),
    "credential.unknown": in_live("credential: locks", "credential: keys"),
    "credential.kind": with_facts(credentials={"locks": CredentialFact("certificate")}),
    "credential.expired": with_facts(credentials={"locks": CredentialFact("password", 99 * DAY)}),
    "credential.expires": with_facts(credentials={"locks": CredentialFact("password", 105 * DAY)}),
    "credential.shared": {"changes": {"rehearsal": ("credential: other", "credential: locks")}},
    "binding.tls": in_live("tls: verify", "tls: 'off'"),
    "environment.plain-http": in_live("https://", "http://"),
    "pool.bounds": in_live("min_size: 2", "min_size: 9"),
    "pool.rigid": in_live("min_size: 2", "min_size: 8"),
    "pool.small": with_facts(pools={"river": PoolFact(12, 97)}),
    "pool.large": in_live("max_size: 8", "max_size: 80") | with_facts(pools={"river": PoolFact(3, 97)}),
    "pool.backend-limit": with_facts(pools={"river": PoolFact(None, 5)}),
    "pool.timeouts": in_live("max_idle: 600", "connect_timeout: 10"),
    "pool.lifetimes": in_live("max_idle: 600", "max_idle: 9000"),
    "pool.cold": in_live("min_size: 2", "min_size: 0"),
    "pool.no-waiting": in_live("max_idle: 600", "max_waiting: 0"),
}


def test_the_sound_set_has_no_findings_and_every_rule_has_a_case() -> None:
    assert findings() == []
    assert set(CASES) == set(RULES)
    assert len(RULES) >= 40


@pytest.mark.parametrize("code", CASES)
def test_each_rule_finds_its_mistake_and_each_mechanical_mend_mends_it(code: str) -> None:
    found = findings(**CASES[code])
    mine = [one for one in found if one.problem.code == code or (code == "parameter.fit" and one.problem.code.startswith("value."))]
    assert mine, [one.problem.code for one in found]
    assert {one.severity for one in mine} == {RULES[code].severity}
    assert mine[0].problem.place
    assert RULES[code].mechanical == (mine[0].mended is not None)
    if mine[0].mended is not None:
        mended = write_definition(mine[0].mended)
        name = {"environment": "live"}.get(mine[0].mended.kind, mine[0].mended.kind)
        case = CASES[code] | {"changes": {part: change for part, change in CASES[code].get("changes", {}).items() if part != name}}
        after = findings(**case | {name: mended})
        assert code not in {one.problem.code for one in after}


def test_the_page_of_findings_is_the_table_of_rules() -> None:
    """`python -m bricola.core.review.page > docs/findings.md` writes it anew."""
    assert (Path(__file__).parents[2] / "docs" / "findings.md").read_text() == write_page()
