"""The numbers of the protocol (doc/proto.md, "Values")."""

from __future__ import annotations

from enum import IntEnum, IntFlag

GREETING, OPTIONS = 0x4E42444D41474943, 0x49484156454F5054  # "NBDMAGIC", "IHAVEOPT"
OPTION_REPLY = 0x3E889045565A9
REQUEST, SIMPLE, STRUCTURED = 0x25609513, 0x67446698, 0x668E33EF


class Offers(IntFlag):
    """Of the server and of the client, in the handshake."""

    FIXED_NEWSTYLE = 1
    NO_ZEROES = 2


class Option(IntEnum):
    """What a client asks in the handshake."""

    EXPORT_NAME = 1
    ABORT = 2
    LIST = 3
    STARTTLS = 5
    INFO = 6
    GO = 7
    STRUCTURED_REPLY = 8


class Reply(IntEnum):
    """How an option is answered; those from 2**31 are errors."""

    ACK = 1
    SERVER = 2
    INFO = 3
    UNSUPPORTED = 2**31 + 1
    POLICY = 2**31 + 2
    INVALID = 2**31 + 3
    UNKNOWN = 2**31 + 6
    TOO_BIG = 2**31 + 9


class Info(IntEnum):
    """What is told of an export."""

    EXPORT = 0
    NAME = 1
    DESCRIPTION = 2
    BLOCK_SIZE = 3


class Can(IntFlag):
    """What an export takes: transmission flags."""

    HAS_FLAGS = 1
    READ_ONLY = 2
    FLUSH = 4
    FUA = 8
    TRIM = 32
    WRITE_ZEROES = 64
    NO_FRAGMENTS = 128
    MULTI_CONN = 256


class Command(IntEnum):
    """What a client asks of an export."""

    READ = 0
    WRITE = 1
    DISCONNECT = 2
    FLUSH = 3
    TRIM = 4
    WRITE_ZEROES = 6


class Flag(IntFlag):
    """Of a request."""

    FUA = 1
    NO_HOLE = 2
    NO_FRAGMENTS = 4


class Errno(IntEnum):
    """Errors in replies; the numbers are those of Linux."""

    PERM = 1
    IO = 5
    NOMEM = 12
    INVAL = 22
    NOSPC = 28
    OVERFLOW = 75
    NOTSUP = 95
    SHUTDOWN = 108


class Chunk(IntEnum):
    """Kinds of structured replies."""

    NONE = 0
    DATA = 1
    ERROR = 2**15 + 1
