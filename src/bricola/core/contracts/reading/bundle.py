"""Contracts that are at hand as a set of files: a folder, a zip, what somebody dropped, what the store keeps."""

import re
from collections.abc import Mapping
from urllib.parse import quote, unquote, urlsplit

from bricola.core.contracts.reading.parts import joined
from bricola.core.problems import Problem, ProblemError

ROOT = "file:///"
_PLACES = re.compile(rb"""(?:schemaLocation|location)\s*=\s*["']([^"']*)["']""")
_WSDL = re.compile(rb"http://schemas\.xmlsoap\.org/wsdl/[\"']")
_SERVICE = re.compile(rb"<(?:[\w.-]+:)?service[\s>]")


class Bundle:
    """Resolves the places of parts in a set of files by their paths. Paths are relative, with slashes, without `..`; `placed` are
    parts that are known by the addresses that they came from."""

    def __init__(self, files: Mapping[str, bytes], placed: Mapping[str, bytes] | None = None) -> None:
        self._placed = placed or {}
        self._files = {path.lstrip("/"): content for path, content in files.items()}
        self._folded = {path.lower(): path for path in self._files}

    def fetch(self, location: str) -> bytes:
        if location in self._placed:
            return self._placed[location]
        if not location.startswith("file:"):
            raise ProblemError(Problem("contract.part-missing", "The part is at an address, and only files are at hand.",
                                       mend="Put the part beside the others, and its path into the place that names it."))
        path = unquote(urlsplit(location).path).lstrip("/")
        found = self._files.get(path)
        if found is None:  # written on a system where letters of either case are one
            found = self._files.get(self._folded.get(path.lower(), ""))
        if found is None:
            raise ProblemError(Problem("contract.part-missing", "The part is not there.", found=path[:200]))
        return found


def location_of(path: str) -> str:
    """The location of a file of a bundle."""
    return ROOT + quote(path.lstrip("/"))


def main_of(files: Mapping[str, bytes]) -> str:
    """The path of the part that the contract begins with: a WSDL that no other part names, best one with a service. Raises
    ProblemError when there is none, or when several could be it."""
    if len(files) == 1:
        return next(iter(files))  # reading it says what it is
    wsdls = [path for path, content in files.items() if _WSDL.search(_ascii(content))]
    if not wsdls:
        raise ProblemError(Problem("contract.none", "None of the files is a WSDL document.", expected="a WSDL 1.1 document",
                                   found=", ".join(sorted(files)[:8]) or "no files"))
    named: set[str] = set()
    for path, content in files.items():
        for place in _PLACES.findall(_ascii(content)):
            target = unquote(urlsplit(joined(location_of(path), place.decode("utf-8", "replace"))).path).lstrip("/")
            if target != path:
                named.add(target)
    first = [path for path in wsdls if path not in named] or wsdls
    chosen = [path for path in first if _SERVICE.search(_ascii(files[path]))] or first
    if len(chosen) > 1:
        raise ProblemError(Problem("contract.several", "Several of the files could be the contract.", found=", ".join(sorted(chosen)[:8]),
                                   mend="Name the one that is meant."))
    return chosen[0]


def _ascii(content: bytes) -> bytes:
    """Enough of a document in one-byte characters to look for ASCII in it, UTF-16 too."""
    return content.replace(b"\0", b"") if content[:2] in (b"\xff\xfe", b"\xfe\xff") or b"\0" in content[:8] else content
