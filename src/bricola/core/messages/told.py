"""What is wrong with a message, in words: the problems that decoders find, each with its place, its rule and its mend."""

from collections.abc import Iterable, Sequence
from dataclasses import replace

from lxml import etree

from bricola.core.nearness import asking_for
from bricola.core.problems import Problem, shown
from bricola.core.shapes.model import Element
from bricola.core.shapes.simple import SimpleType

MOST_PROBLEMS = 20  # a message full of mistakes is told by its first twenty


def missing(element: Element, path: str) -> Problem:
    """A required element is not there."""
    kind = element.type
    rule = kind.rule if isinstance(kind, SimpleType) else f"{'an' if kind.name[:1].lower() in 'aeio' else 'a'} {kind.name}"
    return Problem("element.missing", f"{element.name} is required.", place=f"{path}/{element.name}", expected=rule,
                   found="nothing", mend=f"Add {element.name}.")


def wrong_count(element: Element, count: int, path: str) -> Problem:
    return Problem("element.count", f"{element.name} stands {count} times.", place=f"{path}/{element.name}", expected=element.occurrence)


def told(problem: Problem, element: Element) -> Problem:
    """A problem with an element's value, without the value where it is sensitive."""
    return replace(problem, found="a value that is not shown") if element.sensitive else problem


def one_per_cause(problems: Sequence[Problem]) -> list[Problem]:
    """What is wrong with a message, each cause once: a name that is typed wrongly is not also one that is missing."""
    asked = {(place, one.mend) for one in problems if one.code == "element.unknown" for place in (one.place, one.place.rpartition("/")[0])}
    return list(dict.fromkeys(one for one in problems if one.code != "element.missing" or _asked_for(one.place) not in asked))


def _asked_for(place: str) -> tuple[str, str]:
    parent, _, name = place.rpartition("/")
    return parent, asking_for(name)


def stray_text(path: str, text: str) -> Problem:
    return Problem("element.text", "There is text between the elements.", place=path, found=shown(text.strip()),
                   mend="Remove it.")


def unknown_element(child: etree._Element, path: str, elements: Sequence[Element], namespace: str) -> Problem:
    name = etree.QName(child)
    place = f"{path}/{name.localname}"
    names = [element.local for element in elements]
    same = next((element for element in elements if element.local == name.localname), None)
    if same is not None:
        wanted = same.tag_in(namespace)
        expected = wanted[1:].partition("}")[0] if wanted[:1] == "{" else ""
        return Problem("element.namespace", f"{name.localname} is in the wrong namespace.", place=place,
                       expected=shown(expected) if expected else "no namespace", found=shown(name.namespace or ""),
                       mend="Put it in the namespace of the operation." if expected == namespace else "")
    return Problem("element.unknown", f"{name.localname} does not belong here.", place=place,
                   expected="no elements", choices=tuple(names), found=shown(name.localname))


def out_of_order(path: str, late: str, early: str) -> Problem:
    return Problem("element.order", f"{late} stands after {early}.", place=f"{path}/{late}",
                   expected=f"{late} before {early}", mend="Keep the order of the contract.")


def two_alternatives(path: str, second: str, first: str) -> Problem:
    return Problem("element.alternatives", f"{second} stands beside {first}, and only one of them may.", place=f"{path}/{second}",
                   expected=f"{first} or {second}", mend="Send one of them.")


def no_alternative(path: str, names: Iterable[str], found: str = "") -> Problem:
    listed = ", ".join(names)
    return Problem("element.alternative", "None of the alternatives stands here.", place=path, expected=f"one of {listed}",
                   found=shown(found) if found else "nothing", mend="Send one of them.")


def unknown_attribute(attribute: str, path: str) -> Problem:
    return Problem("element.attribute", "The element has an attribute that is not in the contract.", place=path, found=shown(attribute),
                   mend="Remove the attribute.")


def wrong_type(found: str, known: Sequence[str], path: str) -> Problem:
    names = ", ".join(one for one in known if one)
    if not found:
        return Problem("element.abstract", "The type of this element is abstract, so the message must say which one stands here.",
                       place=path, expected=f"xsi:type with one of {names}" if names else "nothing; no type derives from it")
    return Problem("element.type", "xsi:type names a type that may not stand here.", place=path,
                   expected=f"one of {names}" if names else "no xsi:type, since the type has no name", found=shown(found))
