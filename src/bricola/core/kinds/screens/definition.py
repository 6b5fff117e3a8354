"""Screen flows: walks through the screens of a terminal host, from its start screen back to it."""

from typing import ClassVar

from pydantic import Field as Described

from bricola.core.definitions.base import Definition, Line, Name, NamedPart, NamedParts, Names, Scalar
from bricola.core.definitions.engines.terminals import KnownScreen, Move
from bricola.core.definitions.parts import TypedPart
from bricola.core.shapes.model import Cause


class FlowInput(TypedPart):
    """What a caller gives. One with a default may be left out."""

    default: Scalar | None = None
    sensitive: bool = False


class FlowOutput(TypedPart):
    """What a caller gets; one that is not required may be blank on the screen."""

    sensitive: bool = False


class FlowFault(NamedPart):
    """A fault that the flow declares; its detail has a message and these fields, which are inputs or places that were read. `cause`
    says who has to do something about it: the sender of the request, or the receiver."""

    description: Line = ""
    cause: Cause = "sender"
    fields: Names = ()


class ScreenFlowDefinition(Definition):
    """A walk through the screens of a terminal host, from the backend's start screen back to it.

    `moves` are the task, `back` the way back to the start; without it the backend's way out is taken. A flow that `writes` is never
    tried again by itself once it has pressed a key.
    """

    kind: ClassVar[str] = "screen-flow"
    name: Name
    description: Line = ""
    backend: Name
    writes: bool = True
    input: NamedParts[FlowInput] = ()
    output: NamedParts[FlowOutput] = ()
    faults: NamedParts[FlowFault] = ()
    screens: NamedParts[KnownScreen] = ()
    moves: tuple[Move, ...] = Described(min_length=1)
    back: tuple[Move, ...] = ()

    def screen(self, name: str) -> KnownScreen | None:
        return next((one for one in self.screens if one.name == name), None)
