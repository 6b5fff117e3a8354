"""What an integrator may make the service read and connect to, the operator bounds; a password is shown to nobody who merely asks."""

import socket
import struct
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from bricola.client import ProblemError
from tests.serving import Served, serving

BACKEND = "backend: store\nengine: {}\n"
PASSWORD = "the weir keeper's own words"
Talk = Callable[[socket.socket], bytes]


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    with serving(tmp_path_factory.mktemp("bounds")) as one, one.client() as admin:
        admin.add_credential("keeper", PASSWORD, user="keeper")
        yield one


class Impostor:
    """A server of somebody else, that keeps what it is told."""

    def __init__(self, talk: Talk) -> None:
        self._socket = socket.create_server(("127.0.0.1", 0))
        self.port = self._socket.getsockname()[1]
        self._heard = b""
        self._talk, self._talks = talk, 0
        threading.Thread(target=self._listen, daemon=True).start()

    @property
    def heard(self) -> bytes:
        """What it was told by now, once it has told it: the other side is through with a talk before this one is."""
        deadline = time.monotonic() + 5
        while (self._talks or not self._heard) and time.monotonic() < deadline:
            time.sleep(0.02)
        return self._heard

    def _listen(self) -> None:
        while True:
            connection, _ = self._socket.accept()
            connection.settimeout(3)
            self._talks += 1
            try:
                self._heard += self._talk(connection)
            except OSError:
                continue  # the other side went away, which is what is hoped for
            finally:
                connection.close()
                self._talks -= 1


def _postgres(ask: bytes) -> Talk:
    """PostgreSQL protocol 3.0, section 55.2: no TLS, then one request for the password."""

    def talk(connection: socket.socket) -> bytes:
        heard = connection.recv(4096)
        if heard[4:8] == struct.pack("!i", 80877103):
            connection.sendall(b"N")
            heard += connection.recv(4096)
        connection.sendall(ask)
        return heard + connection.recv(4096)

    return talk


def _mariadb(way: bytes) -> Talk:
    """A greeting, then a switch to a way of signing on in which the password itself is sent."""

    def talk(connection: socket.socket) -> bytes:
        flags = 0x0200 | 0x8000 | 0x0008 | 0x00080000 | 0x00200000
        greeting = b"\x0a5.5.5-10.11.2-MariaDB\0" + struct.pack("<I", 7) + b"12345678\0" + struct.pack("<H", flags & 0xFFFF) + b"\x21" \
            + struct.pack("<HH", 2, flags >> 16) + bytes([21]) + bytes(10) + b"123456789012\0" + b"mysql_native_password\0"
        connection.sendall(struct.pack("<I", len(greeting))[:3] + b"\0" + greeting)
        heard = connection.recv(4096)
        switch = b"\xfe" + way + b"\0" + b"12345678901234567890\0"
        connection.sendall(struct.pack("<I", len(switch))[:3] + b"\x02" + switch)
        return heard + connection.recv(4096)

    return talk


CLEAR = b"R" + struct.pack("!ii", 8, 3)
MD5 = b"R" + struct.pack("!ii", 12, 5) + b"salt"


@pytest.mark.parametrize(("engine", "talk", "leaks"), [
    ("postgresql", _postgres(CLEAR), True), ("postgresql", _postgres(MD5), False),
    ("mariadb", _mariadb(b"mysql_clear_password"), True),
], ids=["PostgreSQL, in clear text", "PostgreSQL, as MD5", "MariaDB, in clear text"])
def test_who_merely_asks_for_a_password_is_not_told(served: Served, engine: str, talk: Talk, leaks: bool) -> None:
    theirs = Impostor(talk)
    place = f"address: '127.0.0.1:{theirs.port}', database: d, credential: keeper"
    with served.client() as admin:
        admin.apply({"b.yaml": BACKEND.format(engine), "e.yaml": f"environment: live\nbackends:\n  store: {{{place}}}\n"})
        stages = {one["stage"]: one for one in admin.check("live", "store")[0]["stages"]}
        assert stages["signed on"]["outcome"] == "failed", stages
        assert theirs.heard
        assert PASSWORD.encode() not in theirs.heard
        admin.apply({"e.yaml": f"environment: live\nbackends:\n  store: {{{place}, password_as: asked}}\n"})
        admin.check("live", "store")
        assert (PASSWORD.encode() in theirs.heard) is leaks  # so that the test could have failed


@pytest.mark.parametrize("file", ["/etc/passwd", "../outside.db", "a/../../outside.db", "~/x.db", "C:/x.db", "bricola.db", "./bricola.db",
                                  "BRICOLA_COPY.db", "bricola.key", "way-out/outside.db", "other-name.db"])
def test_files_lie_below_the_allowed_folders_and_are_never_our_own(served: Served, file: str) -> None:
    for name in ("way-out", "other-name.db", "BRICOLA_COPY.db"):
        (served.data / name).unlink(missing_ok=True)
    (served.data / "way-out").symlink_to(served.data.parent)
    (served.data / "other-name.db").hardlink_to(served.data / "bricola.db")
    with served.client() as admin:
        subprocess.run(["cp", served.data / "bricola.db", served.data / "BRICOLA_COPY.db"], check=True)  # by another process: see Folders
        admin.apply({"b.yaml": BACKEND.format("sqlite"), "e.yaml": f"environment: live\nbackends:\n  store: {{file: '{file}'}}\n"})
        failed = next(one for one in admin.check("live", "store")[0]["stages"] if one["outcome"] == "failed")
        assert failed["stage"] in ("resolved", "reachable")  # a copy is known by what it holds
        assert "binding." in str(failed["problem"]["code"]), failed
        with pytest.raises(ProblemError) as caught:
            admin.tables("live", "store")
        assert caught.value.problem.code in ("binding.file-path", "binding.own-store")


def test_another_protocol_is_told_without_its_words(served: Served) -> None:
    def greet(connection: socket.socket) -> bytes:
        connection.sendall(b"SSH-2.0-KeeperShell_9.1 secret banner\r\n")
        return connection.recv(4096)

    theirs = Impostor(greet)
    with served.client() as admin:
        for engine in ("postgresql", "mariadb"):
            admin.apply({"b.yaml": BACKEND.format(engine),
                         "e.yaml": f"environment: live\nbackends:\n  store: {{address: '127.0.0.1:{theirs.port}', database: d}}\n"})
            said = str(admin.check("live", "store"))
            assert "failed" in said
            assert "banner" not in said
            assert "KeeperShell" not in said
            with pytest.raises(ProblemError) as caught:
                admin.tables("live", "store")
            assert "KeeperShell" not in str(caught.value.problem.as_dict(for_owners=True))


@pytest.mark.parametrize("engine", ["postgresql", "mariadb", "soap"])
def test_a_connection_that_breaks_off_is_told_as_such(served: Served, engine: str) -> None:
    def reset(connection: socket.socket) -> bytes:
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
        return b""

    place = f"127.0.0.1:{Impostor(reset).port}"
    with served.client() as admin:
        place = f"http://{place}/x" if engine == "soap" else place
        admin.apply({"b.yaml": BACKEND.format(engine), "e.yaml": f"environment: live\nbackends:\n  store: {{address: '{place}'}}\n"})
        stages = [one["outcome"] for one in admin.check("live", "store")[0]["stages"]]
        assert stages.count("failed") == 1
        assert "not tried" in stages


def test_backends_are_in_the_networks_that_the_operator_allows(tmp_path: Path) -> None:
    theirs = Impostor(lambda connection: connection.recv(10))
    folder = tmp_path / "records"
    folder.mkdir()
    with serving(tmp_path / "data", backend_networks=("10.0.0.0/8",), backend_folders=(folder,)) as served, served.client() as admin:
        for engine, place in (("postgresql", f"127.0.0.1:{theirs.port}"), ("mariadb", f"localhost:{theirs.port}"),
                              ("soap", f"http://127.0.0.1:{theirs.port}/x")):
            admin.apply({"b.yaml": BACKEND.format(engine), "e.yaml": f"environment: live\nbackends:\n  store: {{address: '{place}'}}\n"})
            first = admin.check("live", "store")[0]["stages"][0]
            assert first["problem"]["code"] == "network.private"
            assert "--backend-network" in first["problem"]["mend"]
        (served.data / "store.db").touch()
        admin.apply({"b.yaml": BACKEND.format("sqlite"), "e.yaml": "environment: live\nbackends:\n  store: {file: store.db}\n"})
        assert admin.check("live", "store")[0]["stages"][0]["outcome"] == "failed"
        (folder / "store.db").touch()
        assert admin.check("live", "store")[0]["stages"][0]["outcome"] == "passed"
    assert theirs.heard == b""


def test_machines_on_the_wire_itself_are_no_backends(served: Served) -> None:
    with served.client() as admin:
        admin.apply({"b.yaml": BACKEND.format("soap"),
                     "e.yaml": "environment: live\nbackends:\n  store: {address: 'http://169.254.169.254/latest'}\n"})
        assert admin.check("live", "store")[0]["stages"][0]["problem"]["code"] == "network.private"
