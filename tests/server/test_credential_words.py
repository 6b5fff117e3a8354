"""A credential says whose account it is, as whom it signs on in the form that the backend wants, what it costs and what it may do there."""

from pathlib import Path

from tests.core.databases import Servers
from tests.postgres import PASSWORD
from tests.serving import serving

FILES = {
    "b.yaml": "backend: store\nengine: postgresql\n", "g.yaml": "backend: gauges\nengine: http\n",
    "o.yaml": "object: weir\nbackend: store\ntable: weir_words\nkey: code\nfields:\n  code: {type: string, max_length: 8}\n",
    "s.yaml": "service: Weirs\naccess: {keeper: all}\noperations:\n  GetWeir: {runs: weir.get}\n",
}


def test_a_credential_says_whose_it_is_as_whom_it_signs_on_what_it_costs_and_what_it_may_do(tmp_path: Path) -> None:
    servers = Servers()
    try:
        server = servers.get("postgresql")
        with server.connect() as db:
            db.execute("CREATE TABLE weir_words (code varchar(8) PRIMARY KEY)")
        environment = (f"environment: live\nbackends:\n  store: {{address: '{server.address}', database: registry, credential: clerk}}\n"
                       "  gauges: {address: 'http://127.0.0.1:9/', credential: clerk, sign_in: basic, user_form: '{user}@larkmere'}\n")
        with serving(tmp_path) as served, served.client() as client:
            client.add_credential("clerk", PASSWORD, user="bricola")
            client.apply(FILES | {"e.yaml": environment})
            made = client.describe_credential("clerk", account="Registry office", cost="a licence for each session")
            assert (made["account"], made["cost"], made["description"]) == ("Registry office", "a licence for each session", "")
            assert client.describe_credential("clerk", description="The register")["account"] == "Registry office"
            uses = {one["backend"]: one for one in client.credentials()[0]["used_by"]}
            assert uses["gauges"]["signs_on_as"] == "bricola@larkmere"
            assert uses["store"]["powers"] is None, "nobody asked it yet"
            client.review("Weirs", "live")
            uses = {one["backend"]: one for one in client.credentials()[0]["used_by"]}
            assert uses["store"]["powers"] is not None
    finally:
        servers.close()
