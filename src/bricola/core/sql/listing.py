"""What every list of rows has in its contract: filters as inputs, a stated order, pages; and what one row is called."""

from collections.abc import Iterator, Mapping

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.engine import Dialect
from bricola.core.problems import Problem, shown
from bricola.core.shapes.model import Element, FaultShape, Record
from bricola.core.shapes.primitives import TEXT_TYPES
from bricola.core.shapes.simple import SimpleType
from bricola.core.shapes.typed import typed_value
from bricola.core.sql.filters import Filter, ordered_field

POSITION = SimpleType("string", max_length=2000)


def dialect_of(backend: str, catalogue: Catalogue) -> Dialect:
    """The dialect of a database backend; of one that is not there, the common one."""
    found = catalogue.find_backend(backend)
    return (found.about.dialect if found is not None else None) or Dialect()


def item_name(row: Record) -> str:
    """The element that holds one row."""
    return row.name[0].lower() + row.name[1:]


def not_found(key: tuple[Element, ...]) -> FaultShape:
    message = Element("message", SimpleType("string"), description="What happened, in words")
    return FaultShape("NotFound", Record("NotFound", (message, *key)), "There is no row with this key")


def filter_mistakes(filters: tuple[Filter, ...], order: tuple[str, ...], elements: Mapping[str, Element], where: str) -> Iterator[Problem]:
    """What is wrong with the filters and the order of a finder or query."""
    for used in (*(ordered_field(one)[0] for one in order), *(one.field for one in filters)):
        if used not in elements:
            yield Problem("finder.field", "The finder uses a field that the object does not have.", place=where,
                          choices=tuple(sorted(elements)), found=shown(used))
    for one in filters:
        if one.name in ("limit", "after"):
            yield Problem("finder.filter-name", "limit and after are inputs that every finder has.",
                          place=f"{where}, {one.name}", mend="Give the filter another name.")
        kind = elements[one.field].type if one.field in elements else None
        if one.compare in ("contains", "starts") and isinstance(kind, SimpleType) and kind.base not in TEXT_TYPES:
            yield Problem("finder.compare", f"Only text can be compared by {one.compare}.", place=f"{where}, {one.name}",
                          expected="a field of type string", found=kind.base)


def page_inputs(default: int, most: int) -> list[Element]:
    limit = SimpleType("int", min="1", max=str(most))
    return [Element("limit", limit, 0, default=default, description=f"How many rows at most; {default} when left out"),
            Element("after", POSITION, 0, description="Where to go on: the value of after in the answer before", echoed=True)]


PAGE_OUTPUTS = (
    Element("more", SimpleType("boolean"), description="Whether rows follow after these"),
    Element("after", POSITION, 0, description="Give it as after in the next call; absent when nothing follows"),
)


def ordering(order: tuple[str, ...], key: tuple[str, ...]) -> list[str]:
    """What orders rows: what is said, then the key, so that no two rows are equal."""
    named = {ordered_field(one)[0] for one in order}
    return [*dict.fromkeys(order), *(one for one in key if one not in named)]


_WORDS = {"equal": "", "differs": "Other than ", "contains": "Part of ", "starts": "The beginning of ", "from": "Lowest ", "to": "Highest ",
          "above": "Above this ", "below": "Below this ", "one-of": "One of these: ", "empty": "Whether there is no "}


def filter_element(one: Filter, target: Element) -> Element:
    """The input that a filter takes."""
    kind, sample, most = target.type, target.sample, 1
    if one.compare in ("contains", "starts") and isinstance(kind, SimpleType):
        kind = SimpleType("string", min_length=1, max_length=kind.max_length or kind.length or 200)
        sample = None
    if one.compare == "empty":
        kind, sample = SimpleType("boolean"), None
    if one.compare == "one-of":
        most = 100
    if one.sample is not None and isinstance(kind, SimpleType):
        sample = typed_value(kind, one.sample, f"filter {one.name}, sample")
    name = target.description or target.name
    described = one.description or (_WORDS[one.compare] + (name[0].lower() + name[1:] if _WORDS[one.compare] else name))
    return Element(one.name, kind, int(one.required), most, described[0].upper() + described[1:], None, sample, target.labels, target.unit,
                   target.sensitive, key_of=target.key_of if one.compare in ("equal", "one-of") else "")
