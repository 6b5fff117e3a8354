"""Records drawn from what somebody has at hand: a sample message, or a schema, in XML or JSON.

`draw` says which of the four it is by looking at it. What a record cannot carry is told in notes, and never dropped in silence.
"""

from bricola.core.contracts.drawing.json_schema import is_json_schema, of_json_schema
from bricola.core.contracts.drawing.records import DrawnRecords
from bricola.core.contracts.drawing.sample import of_json, of_xml
from bricola.core.contracts.drawing.xml_schema import is_xml_schema, of_xml_schema
from bricola.core.contracts.reading.parts import parse_part
from bricola.core.json_text import read_json
from bricola.core.problems import Problem, ProblemError

MOST_BYTES = 2_000_000


def draw(content: bytes, name: str = "", part: str = "") -> DrawnRecords:
    """The records that a sample or a schema shows. `name` is that of the first one, made of what stands there when empty; `part` says which
    element, type or definition of a schema is meant, where there are several. Raises ProblemError."""
    if len(content) > MOST_BYTES:
        raise ProblemError(Problem("sample.size", "The sample is too long.", expected=f"at most {MOST_BYTES} bytes",
                                   found=str(len(content))))
    start = content.lstrip(b"\xef\xbb\xbf \t\r\n")[:1]
    if not start:
        raise ProblemError(Problem("sample.empty", "There is nothing to draw from.", expected="a message or a schema, in XML or JSON"))
    if start == b"<" or content[:2] in (b"\xff\xfe", b"\xfe\xff"):
        root = parse_part(content)
        return of_xml_schema(content, root, name, part) if is_xml_schema(root) else of_xml(root, name)
    value = read_json(content)
    return of_json_schema(value, name, part) if is_json_schema(value) else of_json(value, name)
