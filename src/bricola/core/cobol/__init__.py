"""COBOL copybooks and the records that they lay out. No I/O: copybooks, members of COPY and bytes are handed in.

source    lines to words            copying   COPY, REPLACING           pictures  PICTURE
entries   words to entries          layout    entries to items          alphabets code pages
fields    one item, to bytes and back         codec, reading, writing   whole records, by written-out functions
"""

from bricola.core.cobol.record import decode, encode

__all__ = ["decode", "encode"]
