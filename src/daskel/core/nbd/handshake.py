"""The server's half of the handshake (fixed newstyle): bytes go in, bytes and questions come out.

Which exports there are, and what they are, is the caller's to know: the handshake stops at a
question until it is answered.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from enum import Enum

from daskel.core.nbd.numbers import (
    GREETING,
    OPTION_REPLY,
    OPTIONS,
    Can,
    Info,
    Offers,
    Option,
    Reply,
)
from daskel.core.reader import MalformedError, Reader

NAME_LIMIT = 4096  # bytes of a name
MOST_BYTES = 32 << 20  # of one READ or WRITE
_DATA_LIMIT = NAME_LIMIT + 1024  # bytes of an option
_MOST_OPTIONS = 32  # of one client
_HEAD = struct.Struct(">QII")
_BLOCK, _PREFERRED = 1, 4096  # bytes


@dataclass(frozen=True, slots=True)
class Export:
    """What a client may have under a name. `size` in bytes."""

    size: int
    writable: bool = False
    description: str = ""

    def flags(self, *, structured: bool) -> Can:
        """What it takes."""
        can = Can.HAS_FLAGS | Can.FLUSH | Can.FUA
        can |= Can.TRIM | Can.WRITE_ZEROES if self.writable else Can.READ_ONLY | Can.MULTI_CONN
        return can | Can.NO_FRAGMENTS if structured else can


@dataclass(frozen=True, slots=True)
class AskNames:
    """All names that the client may have: answer with `names`."""


@dataclass(frozen=True, slots=True)
class AskExport:
    """The export of a name: answer with `export`."""

    name: str


class Phase(Enum):
    """Where the handshake is."""

    FLAGS = "the client's flags"
    OPTION = "an option"
    ASKED = "an answer of the caller's"
    DONE = "requests"
    ENDED = "nothing"


Question = AskNames | AskExport


class Handshake:
    """One client's. `phase` says what it waits for; `out` is what goes to the client next."""

    def __init__(self) -> None:
        self.phase = Phase.FLAGS
        self.out = struct.pack(">QQH", GREETING, OPTIONS, Offers.FIXED_NEWSTYLE | Offers.NO_ZEROES)
        self.structured = False
        self._buffer = bytearray()
        self._no_zeroes = False
        self._options = 0
        self._option = Option.GO  # that the caller was asked for
        self._wanted: tuple[int, ...] = ()  # kinds of Info
        self._name = ""

    @property
    def rest(self) -> bytes:
        """What came after the handshake."""
        return bytes(self._buffer)

    def receive(self, data: bytes) -> Question | None:
        """Bytes from the client. Raises MalformedError for what no client sends."""
        self._buffer += data
        return self._go_on()

    def names(self, found: Sequence[str]) -> Question | None:
        """The answer to AskNames."""
        for name in found:
            encoded = name.encode()
            self._reply(Reply.SERVER, len(encoded).to_bytes(4, "big") + encoded)
        self._reply(Reply.ACK)
        self.phase = Phase.OPTION
        return self._go_on()

    def export(self, found: Export | None, why: str = "") -> Question | None:
        """The answer to AskExport. Without an export, the client's screen says `why`."""
        if self._option is Option.EXPORT_NAME:
            self.phase = Phase.DONE if found else Phase.ENDED  # this option knows no refusal
            if found:
                flags = found.flags(structured=self.structured)
                self.out += struct.pack(">QH", found.size, flags)
                self.out += b"" if self._no_zeroes else bytes(124)
            return None
        if found is None:
            self._reply(Reply.UNKNOWN, why.encode())
            self.phase = Phase.OPTION
            return self._go_on()
        self._tell(found)
        self._reply(Reply.ACK)
        self.phase = Phase.DONE if self._option is Option.GO else Phase.OPTION
        return self._go_on()

    def _tell(self, found: Export) -> None:
        flags = found.flags(structured=self.structured)
        self._reply(Reply.INFO, struct.pack(">HQH", Info.EXPORT, found.size, flags))
        if Info.NAME in self._wanted:
            self._reply(Reply.INFO, struct.pack(">H", Info.NAME) + self._name.encode())
        if Info.DESCRIPTION in self._wanted and found.description:
            text = struct.pack(">H", Info.DESCRIPTION) + found.description.encode()
            self._reply(Reply.INFO, text)
        if Info.BLOCK_SIZE in self._wanted:
            sizes = struct.pack(">HIII", Info.BLOCK_SIZE, _BLOCK, _PREFERRED, MOST_BYTES)
            self._reply(Reply.INFO, sizes)

    def _go_on(self) -> Question | None:
        """As far as the bytes that are there lead, or to a question."""
        if self.phase is Phase.FLAGS and len(self._buffer) >= 4:
            flags = int.from_bytes(self._take(4), "big")
            if flags & ~int(Offers.FIXED_NEWSTYLE | Offers.NO_ZEROES):
                raise MalformedError(f"NBD: client flags {flags:#x}")
            self._no_zeroes = bool(flags & Offers.NO_ZEROES)
            self.phase = Phase.OPTION
        while self.phase is Phase.OPTION and len(self._buffer) >= _HEAD.size:
            magic, number, length = _HEAD.unpack_from(self._buffer)
            if magic != OPTIONS:
                raise MalformedError("NBD: not an option")
            if length > _DATA_LIMIT:
                raise MalformedError(f"NBD: an option with {length} bytes")
            if len(self._buffer) < _HEAD.size + length:
                return None
            self._options += 1
            if self._options > _MOST_OPTIONS:
                raise MalformedError(f"NBD: more than {_MOST_OPTIONS} options")
            data = self._take(_HEAD.size + length)[_HEAD.size :]
            if question := self._one(number, data):
                self.phase = Phase.ASKED
                return question
        return None

    def _one(self, number: int, data: bytes) -> Question | None:
        try:
            self._option = Option(number)
        except ValueError:
            self._reply_to(number, Reply.UNSUPPORTED)
            return None
        handle = _OPTIONS.get(self._option)
        if handle is None:
            self._reply(Reply.UNSUPPORTED)
            return None
        return handle(self, data)

    def abort(self, _: bytes) -> Question | None:
        """The client goes."""
        self._reply(Reply.ACK)
        self.phase = Phase.ENDED
        return None

    def list(self, data: bytes) -> Question | None:
        """All names."""
        if data:
            self._reply(Reply.INVALID, b"LIST has no data")
            return None
        return AskNames()

    def structure(self, data: bytes) -> Question | None:
        """Replies in chunks."""
        self.structured = self.structured or not data
        self._reply(Reply.INVALID if data else Reply.ACK)
        return None

    def go(self, data: bytes) -> Question | None:
        """GO and INFO: an export, by name."""
        reader = Reader(data, "NBD: GO")
        try:
            name = reader.take(reader.number(4)).decode()
            wanted = tuple(reader.number(2) for _ in range(reader.number(2)))
            reader.end()
        except (MalformedError, UnicodeDecodeError):
            self._reply(Reply.INVALID, b"malformed")
            return None
        return self._asks_for(name, wanted)

    def named(self, data: bytes) -> Question | None:
        """EXPORT_NAME: of clients that know no better."""
        return self._asks_for(data.decode("utf-8", "replace"), ())

    def _asks_for(self, name: str, wanted: tuple[int, ...]) -> Question | None:
        if len(name.encode("utf-8", "replace")) > NAME_LIMIT:
            self._reply(Reply.TOO_BIG)
            return None
        self._name, self._wanted = name, wanted
        return AskExport(name)

    def _reply(self, kind: Reply, data: bytes = b"") -> None:
        self._reply_to(self._option, kind, data)

    def _reply_to(self, number: int, kind: Reply, data: bytes = b"") -> None:
        self.out += struct.pack(">QIII", OPTION_REPLY, number, kind, len(data)) + data

    def _take(self, size: int) -> bytes:
        taken = bytes(self._buffer[:size])
        del self._buffer[:size]
        return taken


_OPTIONS: Mapping[Option, Callable[[Handshake, bytes], Question | None]] = {
    Option.EXPORT_NAME: Handshake.named,
    Option.ABORT: Handshake.abort,
    Option.LIST: Handshake.list,
    Option.INFO: Handshake.go,
    Option.GO: Handshake.go,
    Option.STRUCTURED_REPLY: Handshake.structure,
}
