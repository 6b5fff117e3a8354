"""Byte codes of 5250 over telnet (RFC 1205, RFC 4777, RFC 1572) and of its data stream (the public description, SA21-9247)."""

from enum import IntEnum


class Opcode(IntEnum):
    """RFC 1205, section 3: what a record is for."""

    NONE = 0x00
    INVITE = 0x01
    OUTPUT = 0x02
    PUT_GET = 0x03
    SAVE_SCREEN = 0x04
    RESTORE_SCREEN = 0x05
    READ_IMMEDIATE = 0x06
    READ_SCREEN = 0x08
    CANCEL_INVITE = 0x0A
    MESSAGE_LIGHT_ON = 0x0B
    MESSAGE_LIGHT_OFF = 0x0C


class Flag(IntEnum):
    """RFC 1205, section 3: of the record's header."""

    ERROR = 0x80
    ATTENTION = 0x40
    SYSTEM_REQUEST = 0x04


RECORD_TYPE = b"\x12\xa0"  # RFC 1205, section 3: general data stream
START_UP_RESPONSE = b"\x90\x00"  # RFC 4777, section 10: the response to the request for a session
HEADER = 10  # bytes
NEGATIVE_NO_COMMAND = bytes.fromhex("10050121")  # sense codes of a negative response: an invalid command,
NEGATIVE_LENGTH = bytes.fromhex("10050122")  # and a stream that goes wrong after its first byte


class Command(IntEnum):
    """What stands behind an escape in a record."""

    SAVE_SCREEN = 0x02
    SAVE_PARTIAL_SCREEN = 0x03
    WRITE_TO_DISPLAY = 0x11
    RESTORE_SCREEN = 0x12
    RESTORE_PARTIAL_SCREEN = 0x13
    CLEAR_UNIT_ALTERNATE = 0x20
    WRITE_ERROR_CODE = 0x21
    WRITE_ERROR_CODE_TO_WINDOW = 0x22
    ROLL = 0x23
    CLEAR_UNIT = 0x40
    READ_INPUT_FIELDS = 0x42
    CLEAR_FORMAT_TABLE = 0x50
    READ_MODIFIED_FIELDS = 0x52
    READ_SCREEN = 0x62
    READ_SCREEN_EXTENDED = 0x64
    READ_IMMEDIATE = 0x72
    READ_MODIFIED_ALTERNATE = 0x82
    READ_MODIFIED_IMMEDIATE_ALTERNATE = 0x83
    WRITE_STRUCTURED_FIELD = 0xF3


UNLOCKS = 0x08  # of the second control character of a read or write
QUERY = b"\xd9\x70"  # class and type of a structured field
AID_NONE = 0x00
AID_INBOUND_STRUCTURED = 0x88


class Variable(IntEnum):
    """RFC 1572, section 2: what stands before the names and values of an environment."""

    VAR = 0x00
    VALUE = 0x01
    ESC = 0x02
    USERVAR = 0x03


AIDS = {"Enter": 0xF1, "Help": 0xF3, "PageUp": 0xF4, "PageDown": 0xF5, "Print": 0xF6, "Clear": 0xBD, "RecordBackspace": 0xF8,
        **{f"F{number}": 0x30 + number for number in range(1, 13)}, **{f"F{number}": 0xB0 + number - 12 for number in range(13, 25)}}

START_UP = {  # RFC 4777, section 10: codes of the start-up response
    "2702": "the device description is not found", "2703": "the controller description is not found",
    "2777": "the device description is damaged", "8901": "the device is not varied on", "8902": "the device is not available",
    "8903": "the device is not valid for the session", "8906": "the session is not initiated", "8907": "the session fails",
    "8910": "the controller is not valid for the session", "8916": "no matching device is found",
    "8917": "not authorised to the object", "8918": "the job is cancelled", "8920": "the object is partly damaged",
    "8921": "a communications error", "8922": "a negative response is received", "8923": "the start-up record is made wrongly",
    "8925": "the device cannot be created", "8928": "the device cannot be changed", "8929": "the device cannot be varied on or off",
    "8930": "the message queue does not exist", "8934": "a start-up for a remote device is received", "8935": "the session is refused",
    "8936": "security failure on the session attempt", "8937": "automatic sign-on is refused", "8940": "automatic configuration failed",
}
