"""Where the parts of contracts come from: disks, zips, and HTTP. Every reader is bounded in size, number and time."""

import io
import ssl
import time
import zipfile
from collections.abc import Callable
from pathlib import Path
from urllib.parse import unquote, urljoin, urlsplit

import httpx

from bricola.adapters.networks import Networks
from bricola.core.contracts.reading.bundle import Bundle, location_of, main_of
from bricola.core.contracts.reading.contract import ReadContract
from bricola.core.contracts.reading.parts import MOST_BYTES, MOST_PARTS, Resolver
from bricola.core.contracts.reading.wsdl import read_contract
from bricola.core.definitions.engines.places import presented_at
from bricola.core.problems import Kind, Problem, ProblemError

MOST_SECONDS = 30.0  # for all parts of a contract together
_MOST_HOPS = 5
_LEVELS_UP = 3  # how far above a file its parts may lie
SUFFIXES = (".wsdl", ".xsd", ".xml", ".asmx", ".svc")


def read_source(source: str, main: str = "", remote: "Callable[[str], Resolver] | None" = None) -> ReadContract:
    """Read the contract that a person names: a file, a folder, a zip, or an address. `main` says which file of a folder or zip it is.
    Raises ProblemError when nothing is there to be read."""
    if source.startswith(("http://", "https://")):
        return read_contract(source, (remote or named_host)(source))
    path = Path(source)
    if path.is_dir():
        return read_files(folder_files(path), main)
    try:
        with path.open("rb") as file:
            content = file.read() if zipfile.is_zipfile(file) and not file.seek(0) else None
    except OSError as error:
        raise ProblemError(Problem("contract.source", "There is no such file.", Kind.MISSING, found=f"{source}: {error.strerror}",
                                   expected="a file, a folder, a zip or an address")) from None
    if content is not None:
        return read_files(zip_files(content), main)
    return read_contract(path.resolve().as_uri(), Disk(path.resolve()))


def read_files(files: dict[str, bytes], main: str = "") -> ReadContract:
    """Read a contract that is a set of files."""
    if main and main not in files:
        raise ProblemError(Problem("contract.main", "There is no such file among these.", found=main,
                                   expected=", ".join(sorted(files)[:8])))
    return read_contract(location_of(main or main_of(files)), Bundle(files))


class Disk:
    """Parts on a disk, below a folder near the first one, so that a contract of somebody else cannot name just any file."""

    def __init__(self, first: Path) -> None:
        above = [one for one in (first.parent, *first.parent.parents)[: _LEVELS_UP + 1] if one != one.parent]
        self._root = above[-1] if above else first.parent

    def fetch(self, location: str) -> bytes:
        if not location.startswith("file:"):
            raise ProblemError(Problem("contract.part-address", "The part is at an address, and parts of a file are files.",
                                       mend="Read the contract from its own address, or put the part beside it."))
        path = Path(unquote(urlsplit(location).path)).resolve()
        if not path.is_relative_to(self._root):
            raise ProblemError(Problem("contract.part-outside", "The part lies too far outside the folder of the contract.",
                                       mend="Copy it into the folder."))
        try:
            with path.open("rb") as file:
                content = file.read(MOST_BYTES + 1)
        except OSError as error:
            raise ProblemError(Problem("contract.part-missing", f"The part cannot be read: {error.strerror}.")) from None
        if len(content) > MOST_BYTES:
            raise ProblemError(Problem("contract.size", f"The part is larger than {MOST_BYTES // 2**20} MiB."))
        return content


def folder_files(folder: Path, suffixes: tuple[str, ...] = SUFFIXES) -> dict[str, bytes]:
    """The files of a folder that can be parts of a contract."""
    files: dict[str, bytes] = {}
    total = 0
    for path in sorted(folder.rglob("*")):
        if path.suffix.lower() in suffixes and path.is_file() and path.resolve().is_relative_to(folder.resolve()):
            total += path.stat().st_size
            if len(files) >= MOST_PARTS or total > MOST_BYTES:
                raise _too_much()
            files[path.relative_to(folder).as_posix()] = path.read_bytes()
    return files


def zip_files(content: bytes, suffixes: tuple[str, ...] = SUFFIXES) -> dict[str, bytes]:
    """The same of a zip. What it says of its sizes is not believed: reading stops at the bound."""
    files: dict[str, bytes] = {}
    total = 0
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            for entry in archive.infolist():
                parts = entry.filename.replace("\\", "/").split("/")
                if entry.is_dir() or ".." in parts or not entry.filename.lower().endswith(suffixes):
                    continue
                with archive.open(entry) as file:
                    data = file.read(MOST_BYTES - total + 1)
                total += len(data)
                if total > MOST_BYTES or len(files) >= MOST_PARTS:
                    raise _too_much()
                files["/".join(one for one in parts if one not in ("", "."))] = data
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, OSError, EOFError, ValueError) as error:
        raise ProblemError(Problem("contract.zip", f"The zip cannot be read: {error}.")) from None
    return files


def _too_much() -> ProblemError:
    return ProblemError(Problem("contract.size", f"There are more than {MOST_PARTS} parts, or {MOST_BYTES // 2**20} MiB of them."))


def named_host(address: str, authorization: httpx.Auth | None = None) -> "Web":
    """For a person's own machine: the host that was named may be anywhere, others that it leads to must be public."""
    host = urlsplit(address).hostname or ""
    return Web(Networks(hosts=frozenset((host.lower(),)), mend="Fetch the parts to a folder, and read that."), authorization, address)


class Web:
    """Parts at addresses. The credential goes to the host and port of `home`, and to no other that a contract leads to; `verify` is how
    servers show who they are."""

    def __init__(self, networks: Networks, authorization: httpx.Auth | None = None, home: str = "",
                 clock: Callable[[], float] = time.monotonic, verify: ssl.SSLContext | bool = True) -> None:
        self._networks = networks
        self._authorization = authorization
        self._home = presented_at(home) if home else ""
        self._verify = verify
        self._clock = clock
        self._until = clock() + MOST_SECONDS

    def fetch(self, location: str) -> bytes:
        with httpx.Client(follow_redirects=False, trust_env=False, verify=self._verify) as client:
            for _ in range(_MOST_HOPS + 1):
                content, onward = self._one(client, location)
                if onward is None:
                    return content
                location = onward
        raise ProblemError(Problem("contract.redirects", f"The address leads on more than {_MOST_HOPS} times.", Kind.BACKEND))

    def _one(self, client: httpx.Client, location: str) -> tuple[bytes, str | None]:
        parts = urlsplit(location)
        host = parts.hostname or ""
        if parts.scheme not in ("http", "https") or not host:
            raise ProblemError(Problem("contract.part-address", "Parts are fetched by http and https only.", found=location[:200]))
        try:
            port = parts.port or (443 if parts.scheme == "https" else 80)
        except ValueError:
            raise ProblemError(Problem("contract.part-address", "The address has no usable port.", found=location[:200])) from None
        address = self._networks.check(host, port)
        shown = f"[{address}]" if ":" in address else address
        url = parts._replace(netloc=f"{shown}:{port}", fragment="").geturl()
        left = self._until - self._clock()
        if left <= 0:
            raise _too_slow()
        headers = {"Host": host if parts.port is None else f"{host}:{port}", "Accept": "text/xml, application/xml, */*;q=0.5"}
        own = presented_at(location) == self._home
        try:
            request = client.build_request("GET", url, headers=headers, timeout=min(left, 10.0), extensions={"sni_hostname": host})
            response = client.send(request, auth=self._authorization if own and self._authorization else None, stream=True)
            try:
                if response.is_redirect:
                    return b"", urljoin(location, response.headers.get("location", ""))
                if response.status_code != 200:
                    raise ProblemError(_status_problem(response.status_code))
                return self._body(response), None
            finally:
                response.close()
        except httpx.TimeoutException:
            raise _too_slow() from None
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise ProblemError(Problem("contract.part-unreachable", "The address does not answer as it should.", Kind.BACKEND,
                                       inner=str(error))) from None

    def _body(self, response: httpx.Response) -> bytes:
        pieces, total = [], 0
        for piece in response.iter_bytes():
            total += len(piece)
            if total > MOST_BYTES:
                raise ProblemError(Problem("contract.size", f"The part is larger than {MOST_BYTES // 2**20} MiB."))
            if self._clock() > self._until:
                raise _too_slow()
            pieces.append(piece)
        return b"".join(pieces)


def _status_problem(status: int) -> Problem:
    if status in (401, 403):
        return Problem("contract.part-refused", f"The host refuses to give the part: status {status}.", Kind.BACKEND,
                       mend="Name a credential that may read it.")
    return Problem("contract.part-missing", f"The host does not give the part: status {status}.", Kind.BACKEND)


def _too_slow() -> ProblemError:
    return ProblemError(Problem("contract.slow", f"The parts did not come within {MOST_SECONDS:.0f} s.", Kind.BACKEND))
