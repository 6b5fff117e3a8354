"""The styles in which a contract of ours is written, and what stands in the body of its messages.

| style | the body | what client stacks make of it |
| --- | --- | --- |
| wrapped | an element with the operation's name, around the parameters (document/literal) | a method with those parameters |
| bare | an element of another name, around the same (document/literal) | a method with one object |
| rpc | an element with the operation's name, around one part of a type (rpc/literal, WSDL 1.1 section 3.5) | a method with one object |

In rpc a part must be there exactly once (WS-I Basic Profile 1.1, R2211 and section 4.7), so optional and repeated parameters stand inside
one part. Its wrappers have a namespace of their own: parts have none, but some stacks give them that of the wrapper where it is the
namespace of a schema with qualified elements.
"""

from collections.abc import Mapping
from dataclasses import replace
from enum import StrEnum
from typing import Any

from bricola.core.shapes.model import Element, OperationShape, Record, Values


class Style(StrEnum):
    WRAPPED = "wrapped"
    BARE = "bare"
    RPC = "rpc"


GIVEN, GIVES = "parameters", "result"  # the parts of rpc messages


def styled(operation: OperationShape, style: Style, namespace: str) -> OperationShape:
    """An operation of ours, of a service with this namespace, with the elements that a style gives it."""
    if style is Style.BARE:
        return replace(operation, input=replace(operation.input, name=f"{operation.name}Request"))
    if style is Style.RPC:
        return replace(operation, calls=f"{namespace.rstrip('/')}{':' if namespace.startswith('urn:') else '/'}calls")
    return operation


def request_record(operation: OperationShape) -> Record:
    """What stands in the body of a request."""
    return _around(operation, operation.input, operation.name, GIVEN) if operation.calls else operation.input


def answer_record(operation: OperationShape) -> Record:
    """What stands in the body of an answer."""
    return _around(operation, operation.output, operation.output.name, GIVES) if operation.calls else operation.output


def part_type(operation: OperationShape, part: str) -> str:
    """The name of the type of an rpc part."""
    return f"{operation.name}{part.capitalize()}"


def _around(operation: OperationShape, record: Record, name: str, part: str) -> Record:
    inner = replace(record, name=part_type(operation, part))
    return Record(name, (Element(part, inner, tag=part),), tag=f"{{{operation.calls}}}{name}")  # parts have no namespace (R2735)


def into_request(operation: OperationShape, values: Mapping[str, Any]) -> Mapping[str, Any]:
    """Values of the input as they stand in a request."""
    return {GIVEN: values} if operation.calls else values


def out_of_request(operation: OperationShape, values: Values) -> Values:
    inner: Values = values.get(GIVEN) or {} if operation.calls else values
    return inner


def into_answer(operation: OperationShape, values: Mapping[str, Any]) -> Mapping[str, Any]:
    """Values of the output as they stand in an answer."""
    return {GIVES: values} if operation.calls else values


def out_of_answer(operation: OperationShape, values: Values) -> Values:
    inner: Values = values.get(GIVES) or {} if operation.calls else values
    return inner
