"""The usual code pages of mainframes and midrange hosts, by the names of Python's registry."""

import ebcdic  # type: ignore[import-untyped]  # registers the code pages that Python lacks

EBCDIC = (
    "cp037",
    "cp273",
    "cp277",
    "cp278",
    "cp280",
    "cp284",
    "cp285",
    "cp297",
    "cp500",
    "cp871",
    "cp1047",
    "cp1140",
    "cp1141",
    "cp1142",
    "cp1143",
    "cp1144",
    "cp1145",
    "cp1146",
    "cp1147",
    "cp1148",
    "cp1149",
)
_REGISTERED = ebcdic.codec_names
