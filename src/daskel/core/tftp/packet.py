"""TFTP packets, read and written: RFC 1350 section 5, options by RFC 2347."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import IntEnum

from daskel.core.reader import Reader


class Opcode(IntEnum):
    """RFC 1350 section 5; 6: RFC 2347."""

    READ = 1
    WRITE = 2
    DATA = 3
    ACK = 4
    ERROR = 5
    OPTIONS = 6


class ErrorCode(IntEnum):
    """RFC 1350 appendix I, RFC 2347."""

    UNDEFINED = 0
    NOT_FOUND = 1
    ACCESS = 2
    FULL = 3
    ILLEGAL = 4
    UNKNOWN_TRANSFER = 5
    EXISTS = 6
    NO_USER = 7
    OPTION = 8


@dataclass(frozen=True, slots=True)
class Request:
    """RRQ or WRQ. Option names are in lower case, in the order asked."""

    opcode: Opcode
    path: bytes
    mode: str
    options: Mapping[str, str] = field(default_factory=dict)

    def serialise(self) -> bytes:
        """RRQ or WRQ (RFC 1350 section 5, RFC 2347)."""
        parts = [self.path, self.mode.encode()]
        parts += [text.encode() for pair in self.options.items() for text in pair]
        return self.opcode.to_bytes(2, "big") + b"".join(part + b"\0" for part in parts)


@dataclass(frozen=True, slots=True)
class Data:
    """DATA (RFC 1350 section 5); `block` begins again after 65,535."""

    block: int
    payload: bytes

    def serialise(self) -> bytes:
        """As it is sent."""
        return data_header(self.block) + self.payload


@dataclass(frozen=True, slots=True)
class Ack:
    """ACK (RFC 1350 section 5)."""

    block: int

    def serialise(self) -> bytes:
        """As it is sent."""
        return Opcode.ACK.to_bytes(2, "big") + self.block.to_bytes(2, "big")


@dataclass(frozen=True, slots=True)
class Error:
    """ERROR (RFC 1350 section 5); it is not acknowledged."""

    code: int
    message: str

    def serialise(self) -> bytes:
        """As it is sent."""
        head = Opcode.ERROR.to_bytes(2, "big") + self.code.to_bytes(2, "big")
        return head + self.message.encode("utf-8", "replace")[:400] + b"\0"


@dataclass(frozen=True, slots=True)
class Options:
    """OACK: the options that the server grants."""

    options: Mapping[str, str]

    def serialise(self) -> bytes:
        """As it is sent."""
        texts = (text.encode() + b"\0" for pair in self.options.items() for text in pair)
        return Opcode.OPTIONS.to_bytes(2, "big") + b"".join(texts)


TftpPacket = Request | Data | Ack | Error | Options


def data_header(block: int) -> bytes:
    """The four bytes before a block's payload; block numbers begin again at 0 after 65,535."""
    return Opcode.DATA.to_bytes(2, "big") + (block & 0xFFFF).to_bytes(2, "big")


def parse(data: bytes) -> TftpPacket:
    """Read a datagram from the network. Raises MalformedError."""
    if data[:2] == b"\0\4" and len(data) >= 4:  # nearly always
        return Ack(data[2] << 8 | data[3])
    reader = Reader(data, "TFTP packet")
    opcode = reader.number(2)
    if opcode in (Opcode.READ, Opcode.WRITE):
        path, mode = reader.until_zero(), _text(reader)
        return Request(Opcode(opcode), path, mode.lower(), _options(reader))
    if opcode == Opcode.DATA:
        return Data(reader.number(2), reader.rest())
    if opcode == Opcode.ACK:
        return Ack(reader.number(2))  # what follows is ignored: some firmware pads
    if opcode == Opcode.ERROR:
        return Error(reader.number(2), reader.rest().split(b"\0", 1)[0].decode("utf-8", "replace"))
    if opcode == Opcode.OPTIONS:
        return Options(_options(reader))
    raise reader.fail(f"opcode is {opcode}, expected 1 to 6")


def _text(reader: Reader) -> str:
    return reader.until_zero().decode("utf-8", "replace")


def _options(reader: Reader) -> dict[str, str]:
    """Pairs of name and value; a name asked for twice counts once (RFC 2347: first)."""
    options: dict[str, str] = {}
    while reader.left:
        name = _text(reader).lower()
        if not name and not reader.left:
            break  # padding behind the last option
        options.setdefault(name, _text(reader))
    return options
