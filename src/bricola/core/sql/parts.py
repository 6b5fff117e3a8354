"""What definitions say of a column of a result."""

from typing import Literal

from bricola.core.definitions.names import snake_case
from bricola.core.definitions.parts import TypedPart


class ResultColumn(TypedPart):
    """A column of a result: named by `column`, or by the name in snake_case."""

    column: str = ""
    """The column there; the name in snake_case when empty."""
    sensitive: bool = False
    """Whether it is masked wherever people look on."""
    zone: Literal["", "utc"] = ""
    """What a moment without a zone means."""

    @property
    def column_name(self) -> str:
        return self.column or snake_case(self.name)
