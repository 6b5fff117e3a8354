"""A credential goes only where an admin agreed that it goes: not to the server of whoever may write an environment."""

import socket
import threading
from collections.abc import Iterator

import pytest

from bricola.client import Client, ProblemError
from tests.serving import Served, serving

FILES = {"b.yaml": "backend: store\nengine: postgresql\n",
         "o.yaml": "object: thing\nbackend: store\ntable: thing\nkey: [id]\nfields:\n  id: {type: int}\n",
         "s.yaml": "service: Things\nnamespace: urn:things\naccess:\n  clerk: all\noperations:\n  GetThing: {runs: thing.get}\n"}
ENVIRONMENT = "environment: live\nbackends:\n  store: {{address: '127.0.0.1:{}', database: d, credential: locks}}\n"
SECRET = "an open secret of locks"


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    with serving(tmp_path_factory.mktemp("places")) as one:
        yield one


class Listener:
    """Somebody's server, which keeps all that comes."""

    def __init__(self) -> None:
        self._socket = socket.create_server(("127.0.0.1", 0))
        self.port = self._socket.getsockname()[1]
        self.connections = 0
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        while True:
            connection, _ = self._socket.accept()
            self.connections += 1
            connection.close()


def test_an_integrators_own_server_gets_no_connection_and_an_admin_may_agree(served: Served) -> None:
    theirs = Listener()
    with served.client() as admin:
        admin.add_credential("locks", SECRET, user="clerk")
        admin.apply(FILES | {"e.yaml": ENVIRONMENT.format(1)})
        admin.add_user("teo", "towpath lantern", "integrator")
        with Client(served.url) as integrator:
            integrator.sign_in("teo", "towpath lantern")
            integrator.apply({"e.yaml": ENVIRONMENT.format(theirs.port)})
            found = [one["code"] for one in integrator.review("Things", "live")]
            assert "credential.place" in found
            stages = integrator.check("live", "store")[0]["stages"]
            assert stages[0]["outcome"] == "failed"
            assert "allow locks live" in str(stages)
            integrator.release("Things")
            with pytest.raises(ProblemError):
                integrator.deploy("Things", "live")
            with pytest.raises(ProblemError) as caught:
                integrator.tables("live", "store")
            assert caught.value.problem.code == "credential.place"
            with pytest.raises(ProblemError) as caught:
                integrator.allow_credential("locks", "live")
            assert "admin" in caught.value.problem.sentence()
        assert theirs.connections == 0
        places = admin.allow_credential("locks", "live")
        assert {one["address"] for one in places} == {"127.0.0.1:1", f"127.0.0.1:{theirs.port}"}
        assert "credential.place" not in [one["code"] for one in admin.review("Things", "live")]
        assert admin.check("live", "store")[0]["stages"][0]["outcome"] == "passed"
        assert theirs.connections > 0
        assert [one["subject"] for one in admin.audit() if one["action"] == "allow"] == ["credential locks"] * 2


def test_another_engine_at_the_same_address_is_another_place(served: Served) -> None:
    with served.client() as admin:
        places = admin.allow_credential("locks", "live")
        with Client(served.url) as integrator:
            integrator.sign_in("teo", "towpath lantern")
            integrator.apply({"b.yaml": "backend: store\nengine: mariadb\n"})
            assert "credential.place" in [one["code"] for one in integrator.review("Things", "live")]
        assert {one["engine"] for one in places} == {"postgresql"}
