"""One small service with every kind of type, for tests of the core."""

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.text import read_definition
from bricola.core.kinds.resolve import ResolvedService, resolve_service

OBJECT = r"""
object: gauge
description: A gauge on the river
backend: registry
table: gauge
key: [code]
change_token: row_version
fields:
  code: {type: Code, description: On the post, sample: G01}
  place: {type: string, max_length: 20}
  datum: {type: decimal, digits: 6, fraction: 2, min: -10, max: 999.99, unit: metres}
  automatic: {type: boolean}
  readings: {type: nonNegativeInteger}
  drift: {type: double, required: false}
  installed: {type: date}
  checked: {type: dateTime, required: false}
  opens: {type: time, required: false}
  every: {type: duration, required: false}
  since: {type: gYearMonth, required: false}
  photo: {type: base64Binary, max_length: 64, required: false}
  page: {type: anyURI, required: false}
  grade: {type: string, codes: [A, B, C], required: false}
finders:
  search:
    description: Finds gauges by place.
    filters:
      placeContains: {field: place, compare: contains}
      grade: {field: grade}
      datumFrom: {field: datum, compare: from}
    limit: {default: 3, most: 50}
  byPlace:
    order: place
    filters:
      placeStarts: {field: place, compare: starts}
    limit: {default: 2, most: 10}
"""
SERVICE = """
service: GaugeBook
description: Gauges & their data
namespace: urn:larkmere:gauge-book
access:
  reader: all
operations:
  GetGauge: {runs: gauge.get, description: Reads one gauge.}
  FindGauges: {runs: gauge.search}
  FindGraded:
    runs: gauge.search
    input:
      grade: {given: fixed, value: B}
      limit: {given: default, value: 7}
  ListGauges: {runs: gauge.byPlace, description: Lists gauges by place.}
"""
PARTS = ("type: Code\nbase: string\npattern: G\\d{2}", "backend: registry\nengine: sqlite", OBJECT, SERVICE)


def gauge_catalogue() -> Catalogue:
    return Catalogue(read_definition(text) for text in PARTS)


def gauge_service(more: str = "") -> ResolvedService:
    """The service, with more lines of its definition."""
    catalogue = Catalogue(read_definition(text) for text in (*PARTS[:-1], PARTS[-1] + more))
    service = catalogue.find_service("GaugeBook")
    assert service is not None
    return resolve_service(service, catalogue)
