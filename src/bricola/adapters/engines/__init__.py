"""The doors to backends, a folder an engine. A further engine is a folder here and a line below."""

from collections.abc import Mapping

from bricola.adapters.engines.door import Door
from bricola.adapters.engines.files.door import DOOR as FILES
from bricola.adapters.engines.http.door import DOOR as HTTP
from bricola.adapters.engines.mariadb.door import DOOR as MARIADB
from bricola.adapters.engines.postgresql.door import DOOR as POSTGRESQL
from bricola.adapters.engines.program_host.door import DOOR as PROGRAM_HOST
from bricola.adapters.engines.soap.door import DOOR as SOAP
from bricola.adapters.engines.sqlite.door import DOOR as SQLITE
from bricola.adapters.engines.tn3270.door import DOOR as TN3270
from bricola.adapters.engines.tn5250.door import DOOR as TN5250

DOORS: Mapping[str, Door] = {one.engine.word: one for one in (SQLITE, POSTGRESQL, MARIADB, TN3270, TN5250, SOAP, HTTP, FILES, PROGRAM_HOST)}


def able() -> dict[str, str]:
    """Every engine, with the reason why it cannot be used by this installation; '' when it can."""
    return {word: door.missing() for word, door in DOORS.items()}
