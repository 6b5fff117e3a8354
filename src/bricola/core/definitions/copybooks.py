"""Copybooks of others, kept with all that they copy."""

from typing import Annotated, ClassVar, Literal

from bricola.core.definitions.base import Definition, Line, Lines, Name
from bricola.core.definitions.runs import add_kind


class CopybookDefinition(Definition):
    """A COBOL copybook as it came, by which programs lay out their areas."""

    kind: ClassVar[str] = "copybook"
    name: Name
    """What programs name it by."""
    description: Line = ""
    """What it lays out."""
    source_format: Literal["", "fixed", "free"] = ""
    """Its reference format; found out when empty."""
    text: Annotated[str, Lines()]
    """The copybook itself."""
    members: dict[str, str] = {}
    """The copybooks that COPY names in it, by name."""
    replacing: dict[str, str] = {}
    """What stands instead of what in the whole text, as in COPY REPLACING."""


add_kind(CopybookDefinition)
