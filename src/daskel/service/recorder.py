"""Writes the packets of each boot into a file of its own, which analysers of captures open.

A process of its own, `python -m daskel.service.recorder DIR SITE INTERFACE...`, so that the server
answers as fast as without; it ends when its standard input does.
"""

from __future__ import annotations

import os
import selectors
import signal
import socket
import struct
import subprocess
import sys
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from daskel.core.capture.split import WHOLE, Split
from daskel.service.clock import SYSTEM
from daskel.system.captures import FILE_HEAD, packet_head
from daskel.system.host import privileges
from daskel.system.requirements import MissingRequirementError
from daskel.system.sitefile import load

_ETH_P_ALL, _SO_RCVBUFFORCE = 3, 33  # packet(7), socket(7)
_SOL_PACKET, _STATISTICS = 263, 6  # packet(7)
_ROOM = 64 << 20  # bytes of packets that wait for this process
_FLUSH = 0.5  # seconds
_MOST_OPEN = 200  # files
_MARK, _MARKS = 5.0, 610.0  # seconds between two marks, and after a packet until the last of them


class Recorder:
    """The recording process, as its server sees it. Raises MissingRequirementError."""

    def __init__(self, folder: Path, site: Path, interfaces: Sequence[str]) -> None:
        try:
            folder.mkdir(mode=0o750, parents=True, exist_ok=True)
        except OSError as error:
            problem = f"{folder} cannot be made ({error.strerror})"
            raise MissingRequirementError(problem, "name another folder with --record") from None
        command = [sys.executable, "-m", "daskel.service.recorder", str(folder), str(site)]
        self._process = subprocess.Popen(
            [*command, *interfaces], stdin=subprocess.PIPE, stdout=subprocess.PIPE
        )
        assert self._process.stdout
        if self._process.stdout.readline() != b"ready\n":
            raise MissingRequirementError(
                "packets cannot be recorded", "run as root; see what it said above"
            )

    def close(self) -> None:
        """End it, once what has come until now is written."""
        assert self._process.stdin
        self._process.stdin.close()
        self._process.wait()


@dataclass(slots=True)
class _Open:
    file: BinaryIO
    last: float  # packet; seconds since 1970
    marked: float


class PacketFiles:
    """One for each boot that is being recorded; those written to last are open. Packets without a
    byte mark that nothing came until then: else nobody could tell how long a machine was silent.
    """

    def __init__(self, folder: Path, names: dict[str, str]) -> None:
        self._folder, self._names = folder, names
        self._open: dict[tuple[str, float], _Open] = {}

    def write(self, mac: str, began: float, at: float, length: int, data: bytes) -> None:
        """Append a packet to the file of its boot; `length` is what it had on the wire, in
        bytes."""
        opened = self._open.pop((mac, began), None) or _Open(self._begin(mac, began), at, at)
        self._open[mac, began] = opened
        opened.last = opened.marked = at
        opened.file.write(packet_head(at, len(data), length) + data)

    def flush(self, now: float) -> None:
        """Mark who is silent, and hand over to the operating system what was written."""
        for opened in self._open.values():
            if now - opened.marked >= _MARK and now - opened.last < _MARKS:
                opened.marked = now
                opened.file.write(packet_head(now, 0, 0))
            opened.file.flush()

    def _begin(self, mac: str, began: float) -> BinaryIO:
        while len(self._open) >= _MOST_OPEN:
            self._open.pop(next(iter(self._open))).file.close()
        when = time.strftime("%Y%m%d-%H%M%S", time.localtime(began))
        name = self._names.get(mac, mac.replace(":", "-"))
        path = self._folder / f"{name}_{when}.pcap"
        flags = os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC
        file = os.fdopen(os.open(path, flags, 0o640), "ab")  # what clients send is in it
        if not file.tell():
            file.write(FILE_HEAD)
        return file


def main() -> None:
    """Record until standard input ends."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the server ends us
    folder, site = Path(sys.argv[1]), load(Path(sys.argv[2])).site
    waiting = selectors.DefaultSelector()
    try:
        for interface in sys.argv[3:]:
            waiting.register(_listen(interface), selectors.EVENT_READ)
        waiting.register(sys.stdin.fileno(), selectors.EVENT_READ)
        privileges.keep_only((privileges.DAC_OVERRIDE,))  # to write where it was told
        os.write(1, b"ready\n")
        _record(waiting, PacketFiles(folder, dict(site.by_mac) if site else {}))
    except OSError as error:  # no permission, a full disk; the server goes on
        sys.exit(f"daskel: packets are not recorded ({error.strerror}: {folder})")


def _listen(interface: str) -> socket.socket:
    sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(_ETH_P_ALL))
    sock.bind((interface, 0))
    sock.setsockopt(socket.SOL_SOCKET, _SO_RCVBUFFORCE, _ROOM)
    sock.setblocking(False)
    return sock


def _record(waiting: selectors.BaseSelector, files: PacketFiles) -> None:
    """Until standard input ends; what has come until then is written."""
    split, buffer, flushed = Split(), bytearray(WHOLE), 0.0
    ended, lost = False, 0
    wires = [k.fileobj for k in waiting.get_map().values() if isinstance(k.fileobj, socket.socket)]
    while not ended:
        for key, _ in waiting.select(_FLUSH):
            if isinstance(key.fileobj, socket.socket):
                _take(key.fileobj, split, files, buffer)
            else:
                ended = True
        if ended or SYSTEM.monotonic() - flushed > _FLUSH:
            flushed = SYSTEM.monotonic()
            files.flush(SYSTEM.now())
            more = sum(map(_lost, wires))
            if more and not lost:
                sys.stderr.write("daskel: packets come faster than they can be recorded\n")
            lost += more
    for wire in wires:
        _take(wire, split, files, buffer)
    files.flush(SYSTEM.now())
    if lost:
        sys.stderr.write(f"daskel: {lost} packets were not recorded\n")


def _lost(wire: socket.socket) -> int:
    """Packets that found no room since this was last asked."""
    lost: int = struct.unpack("2I", wire.getsockopt(_SOL_PACKET, _STATISTICS, 8))[1]
    return lost


def _take(sock: socket.socket, split: Split, files: PacketFiles, buffer: bytearray) -> None:
    while True:
        try:
            length = sock.recv_into(buffer, 0, socket.MSG_TRUNC)
        except BlockingIOError:
            return
        at = SYSTEM.now()
        kept = split.feed(at, bytes(buffer[: min(length, WHOLE)]))
        if kept:
            files.write(kept.mac, kept.began, at, length, kept.data)


if __name__ == "__main__":
    main()
