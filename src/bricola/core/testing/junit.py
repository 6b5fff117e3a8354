"""Results as the XML that build servers read: one `testsuite` for each suite, one `testcase` for each case and row."""

from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from typing import Any

from lxml import etree

from bricola.core.problems import Problem


def write_junit(run: Mapping[str, Any], results: Iterable[Mapping[str, Any]]) -> bytes:
    """The document of a run and its results, both as the management API gives them."""
    root = etree.Element("testsuites", name=f"bricola {run['environment']}")
    by_suite: dict[str, list[Mapping[str, Any]]] = {}
    for one in results:
        by_suite.setdefault(one["suite"], []).append(one)
    begun = datetime.fromtimestamp(run["begun_at"], UTC).strftime("%Y-%m-%dT%H:%M:%S")
    for name, cases in by_suite.items():
        node = etree.SubElement(root, "testsuite", name=name, timestamp=begun, time=f"{sum(one['ms'] for one in cases) / 1000:.3f}",
                                tests=str(len(cases)), failures=str(sum(one["outcome"] == "failed" for one in cases)), errors="0",
                                skipped=str(sum(one["outcome"] == "left out" for one in cases)))
        for one in cases:
            _case(node, one)
    for name in ("tests", "failures", "skipped"):
        root.set(name, str(sum(int(one.get(name, "0")) for one in root)))
    return etree.tostring(root, encoding="UTF-8", xml_declaration=True, pretty_print=True)


def _case(parent: etree._Element, one: Mapping[str, Any]) -> None:
    title = one["case"] + (f" [{one['row']}]" if one["row"] else "") + (f" ({one['part']})" if one["part"] != "case" else "")
    if one["rule"]:
        title = f"{one['operation']}: {one['element'] or 'the whole request'}, {one['rule']}"
    node = etree.SubElement(parent, "testcase", classname=f"{one['service']}.{one['operation']}", name=_clean(title),
                            time=f"{one['ms'] / 1000:.3f}")
    problems = [Problem(**{name: value for name, value in two.items() if name != "kind"}) for two in one["problems"]]
    text = "\n".join(two.sentence() for two in problems)
    if one["outcome"] == "failed":
        failure = etree.SubElement(node, "failure", message=_clean(problems[0].sentence() if problems else "It failed."),
                                   type=_code(problems))
        failure.text = _clean(f"{text}\ncall {one['call']}" if one["call"] else text)
    elif one["outcome"] == "left out":
        etree.SubElement(node, "skipped", message=_clean(problems[0].sentence() if problems else ""))
    if one["warnings"]:
        etree.SubElement(node, "system-out").text = _clean("\n".join(two["message"] for two in one["warnings"]))


def _code(problems: list[Problem]) -> str:
    return problems[0].code if problems else "test"


def _clean(text: str) -> str:
    """Without characters that XML cannot hold (XML 1.0, section 2.2)."""
    return "".join(c if c in "\t\n\r" or (ord(c) >= 0x20 and not 0xD800 <= ord(c) <= 0xDFFF and ord(c) not in (0xFFFE, 0xFFFF))
                   else "\N{REPLACEMENT CHARACTER}" for c in text)
