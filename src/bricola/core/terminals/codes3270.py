"""Byte codes of TN3270E (RFC 2355) and of the 3270 data stream (its commands as RFC 1576, section 3 lists them, the rest as in the public
description of the stream, GA23-0059: commands, structured fields, AIDs)."""

from enum import IntEnum


class Word(IntEnum):
    """RFC 2355, section 7: what subnegotiations say."""

    ASSOCIATE = 0x00
    CONNECT = 0x01
    DEVICE_TYPE = 0x02
    FUNCTIONS = 0x03
    IS = 0x04
    REASON = 0x05
    REJECT = 0x06
    REQUEST = 0x07
    SEND = 0x08


class Reason(IntEnum):
    """RFC 2355, section 7.1.6: why a device type is rejected."""

    CONN_PARTNER = 0x00
    DEVICE_IN_USE = 0x01
    INV_ASSOCIATE = 0x02
    INV_NAME = 0x03
    INV_DEVICE_TYPE = 0x04
    TYPE_NAME_ERROR = 0x05
    UNKNOWN_ERROR = 0x06
    UNSUPPORTED_REQ = 0x07


class Function(IntEnum):
    """RFC 2355, section 7.2.2: what both may agree on."""

    BIND_IMAGE = 0x00
    DATA_STREAM_CTL = 0x01
    RESPONSES = 0x02
    SCS_CTL_CODES = 0x03
    SYSREQ = 0x04


class DataType(IntEnum):
    """RFC 2355, section 8.1.1: what a record is."""

    DATA_3270 = 0x00
    SCS_DATA = 0x01
    RESPONSE = 0x02
    BIND_IMAGE = 0x03
    UNBIND = 0x04
    NVT_DATA = 0x05
    REQUEST = 0x06
    SSCP_LU_DATA = 0x07
    PRINT_EOJ = 0x08


class Wanted(IntEnum):
    """RFC 2355, section 8.1.3: the response that a record of the host asks for."""

    NO_RESPONSE = 0x00
    ERROR_RESPONSE = 0x01
    ALWAYS_RESPONSE = 0x02


class Response(IntEnum):
    """RFC 2355, section 8.1.3: the flag of a response record."""

    POSITIVE = 0x00
    NEGATIVE = 0x01


class Trouble(IntEnum):
    """RFC 2355, section 10.4: what a negative response says."""

    COMMAND_REJECT = 0x00
    INTERVENTION_REQUIRED = 0x01
    OPERATION_CHECK = 0x02
    COMPONENT_DISCONNECTED = 0x03


DEVICE_END = 0x00  # RFC 2355, section 10.4: what a positive response says

# RFC 2355, section 7.1.6, by their numbers from 0. Without a name that was asked for, each of them is of the type.
REASONS = ("conn-partner", "device-in-use", "inv-associate", "inv-name", "inv-device-type", "type-name-error", "unknown-error",
           "unsupported-req")


class Command(IntEnum):
    """What a record of the host does. Each has two codes: the one of RFC 1576, section 3.3, and the one of a channel, as some hosts
    send it; both mean the same."""

    WRITE = 0xF1
    ERASE_WRITE = 0xF5
    ERASE_WRITE_ALTERNATE = 0x7E
    ERASE_ALL_UNPROTECTED = 0x6F
    READ_BUFFER = 0xF2
    READ_MODIFIED = 0xF6
    READ_MODIFIED_ALL = 0x6E
    WRITE_STRUCTURED_FIELD = 0xF3


COMMANDS: dict[int, Command] = {code: command for command, codes in {
    Command.WRITE: (0xF1, 0x01),
    Command.ERASE_WRITE: (0xF5, 0x05),
    Command.ERASE_WRITE_ALTERNATE: (0x7E, 0x0D),
    Command.ERASE_ALL_UNPROTECTED: (0x6F, 0x0F),
    Command.READ_BUFFER: (0xF2, 0x02),
    Command.READ_MODIFIED: (0xF6, 0x06),
    Command.READ_MODIFIED_ALL: (0x6E, 0x0E),
    Command.WRITE_STRUCTURED_FIELD: (0xF3, 0x11),
}.items() for code in codes}


class StructuredField(IntEnum):
    READ_PARTITION = 0x01
    ERASE_RESET = 0x03
    SET_REPLY_MODE = 0x09
    OUTBOUND_3270DS = 0x40


class ReadPartition(IntEnum):
    """What a read of the partition asks for, beside the three reads of `Command`."""

    QUERY = 0x02
    QUERY_LIST = 0x03


RESETS_REPLY_MODE = 0x40  # of the write control character, of an erase
ALTERNATE_SIZE = 0x80  # of Erase/Reset
AID_STRUCTURED = 0x61  # of what answers a read of the partition (Read Partition is no key)

ATTENTION, SYSTEM_REQUEST = "Attention", "SystemRequest"
PLAIN_SYSTEM_REQUEST = bytes.fromhex("016c6102")  # the record of System Request in plain TN3270: a test request
BIND_24_BY_80, BIND_DEFAULT_ONLY, BIND_BOTH = 0x02, 0x7E, 0x7F  # byte 24 of a BIND image: which of its sizes hold
AIDS = {"Enter": 0x7D, "Clear": 0x6D, "PA1": 0x6C, "PA2": 0x6E, "PA3": 0x6B,
        **{f"PF{number}": code for number, code in enumerate((0xF1, 0xF2, 0xF3, 0xF4, 0xF5, 0xF6, 0xF7, 0xF8, 0xF9, 0x7A, 0x7B, 0x7C,
                                                              0xC1, 0xC2, 0xC3, 0xC4, 0xC5, 0xC6, 0xC7, 0xC8, 0xC9, 0x4A, 0x4B, 0x4C), 1)}}
