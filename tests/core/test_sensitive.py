"""What is marked sensitive once is masked wherever people look on; labels stand in the contract in every language."""

import xmlschema
from lxml import etree

from bricola.core.calls.trials import Trial
from bricola.core.contracts.schema import write_schema
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.text import read_definition
from bricola.core.kinds.resolve import ResolvedService, resolve_service
from bricola.core.messages.decoder import compile_decoder
from bricola.core.messages.plain import from_plain
from bricola.core.messages.request import MASK, masked_text, masked_values, sensitive_names
from bricola.core.problems import Problem

PARTS = (
    "backend: river\nengine: sqlite",
    """
object: keeper
backend: river
table: keeper
key: name
fields:
  name: {type: string, label: {en: Name, de: Familienname}}
  pin: {type: int, min: 1000, sensitive: true, label: PIN}
  notes: {type: string, required: false}
""",
    "service: Keepers\nnamespace: urn:larkmere:keepers\noperations:\n  SaveKeeper: {runs: keeper.save}\n  GetKeeper: {runs: keeper.get}\n"
    "  UpdateKeeper: {runs: keeper.update}\n",
)
SECRET = "7731"


def keepers() -> ResolvedService:
    catalogue = Catalogue(read_definition(text) for text in PARTS)
    service = catalogue.find_service("Keepers")
    assert service is not None
    return resolve_service(service, catalogue)


def test_envelopes_values_and_trials_are_masked() -> None:
    get = next(one.shape for one in keepers().operations if one.shape.name == "GetKeeper")
    assert sensitive_names(get) == {"pin"}
    text = f"<a><keeper><name>{SECRET}</name><pin>{SECRET}</pin><k:pin x='1'>{SECRET}</k:pin></keeper></a>"
    assert masked_text(text, sensitive_names(get)).count(SECRET) == 1  # of the name
    assert masked_values(get.output, {"keeper": {"name": "Imke", "pin": SECRET}}) == {"keeper": {"name": "Imke", "pin": MASK}}
    trial = Trial()
    trial.note("keeper", "changed", {"name": "Imke"}, {"pin": 1234}, {"pin": int(SECRET)}, frozenset({"pin"}))
    assert SECRET not in trial.header()


def test_a_wrong_value_is_refused_without_being_repeated() -> None:
    save = next(one.shape for one in keepers().operations if one.shape.name == "SaveKeeper")
    problems: list[Problem] = []
    from_plain(save.input, {"keeper": {"name": "Imke", "pin": 17}}, "SaveKeeper", problems)
    node = etree.fromstring('<SaveKeeper xmlns="urn:larkmere:keepers"><keeper><name>Imke</name><pin>17</pin></keeper></SaveKeeper>')
    compile_decoder(save.input, "urn:larkmere:keepers")(node, "SaveKeeper", problems)
    assert [one.code for one in problems] == ["value.range", "value.range"]
    assert not any("17" in one.found for one in problems)


def test_labels_and_the_fields_to_empty_stand_in_a_valid_schema() -> None:
    schema = write_schema(keepers().shape)
    xmlschema.XMLSchema(etree.tostring(schema).decode())
    told = [(node.get("{http://www.w3.org/XML/1998/namespace}lang"), node.text) for node in schema.iter("{*}documentation")]
    assert ("de", "Familienname") in told
    assert not [node for node in schema.iter("{*}element") if node.get("nillable")]
    (clear,) = [node for node in schema.iter("{*}element") if node.get("name") == "clear"]
    assert [one.get("value") for one in clear.iter("{*}enumeration")] == ["notes"]
