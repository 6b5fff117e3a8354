"""What the overview asks after a change of one definition, which drafts differ from their releases, beside the same with texts made anew.

Both are done in the event loop of the service; the catalogue is the demo's.
"""

import statistics
import time
from collections.abc import Callable

from bricola.core.definitions import text
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.text import read_definition, write_definition
from bricola.demo.start import catalogue_files
from bricola.server.ports.releases import freeze

ROUNDS = 15


def milliseconds(work: Callable[[], None]) -> list[float]:
    found = []
    for _ in range(ROUNDS):
        start = time.process_time()
        work()
        found.append((time.process_time() - start) * 1000)
    return found


def main() -> None:
    files = catalogue_files()
    definitions = [read_definition(content, path) for path, content in files.items()]
    changed = next(path for path in files if path.endswith("vessel.yaml"))
    for one in definitions:
        write_definition(one)

    def overview() -> None:
        newer = read_definition(files[changed], changed)
        write_definition(newer)
        catalogue = Catalogue([one for one in definitions if (one.kind, one.name) != (newer.kind, newer.name)]) | Catalogue([newer])
        for service in catalogue.services():
            freeze(catalogue, service)

    def anew() -> None:
        text._written.clear()
        overview()

    ours, before = milliseconds(overview), milliseconds(anew)
    for name, found in (("texts kept", ours), ("texts made anew", before)):
        print(f"{name}: min {min(found):.1f} ms, median {statistics.median(found):.1f} ms, max {max(found):.1f} ms")
    print(f"ratio of medians: {statistics.median(ours) / statistics.median(before):.3f}")


if __name__ == "__main__":
    main()
