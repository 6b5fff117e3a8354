"""Contracts of others, kept with all their parts."""

import base64
import binascii
from typing import ClassVar, Self

from pydantic import model_validator

from bricola.core.definitions.base import Definition, Line, Name
from bricola.core.definitions.runs import add_kind


class ContractDefinition(Definition):
    """A contract of somebody else, with all its parts as they came. `files` are texts by path, `encoded` those that are no UTF-8 text, in
    base64; `main` is the one that it begins with, `source` where it came from. `places` are the addresses of parts that were fetched, since
    parts name each other by them."""

    kind: ClassVar[str] = "contract"
    name: Name
    description: Line = ""
    source: Line = ""
    fetched: Line = ""
    main: str
    files: dict[str, str] = {}
    encoded: dict[str, str] = {}
    places: dict[str, str] = {}

    @property
    def contents(self) -> dict[str, bytes]:
        """All parts as bytes, by path."""
        return {path: text.encode() for path, text in self.files.items()} | {
            path: base64.b64decode(text) for path, text in self.encoded.items()}

    @model_validator(mode="after")
    def _is_whole(self) -> Self:
        for path, text in self.encoded.items():
            try:
                base64.b64decode(text, validate=True)
            except binascii.Error:
                raise ValueError(f"{path} is no base64") from None
        if self.main not in self.files and self.main not in self.encoded:
            raise ValueError(f"the main part {self.main} is not among the files")
        return self


add_kind(ContractDefinition)
