"""NFS READ of a large file, 256 KiB a call, four calls under way, against a TCP blast of it."""

from __future__ import annotations

import os
import socket
import time
from pathlib import Path

from common import CLIENT, SERVER, WIRE, beside, compare, daskel

from daskel.core.nfs import calls, nfs3
from daskel.core.nfs.nfs3 import Procedure
from daskel.core.nfs.rpc import mark, serialise_call
from daskel.rehearse.fetch import NfsRoot

SIZE, CALL, UNDER_WAY = 256 << 20, 256 << 10, 4  # bytes, bytes, calls
BLAST_PORT = 25997
ADDRESS = WIRE.outside(SERVER)


def blast(path: Path) -> None:
    with socket.create_server((ADDRESS, BLAST_PORT)) as server:
        while True:
            stream, _ = server.accept()
            with stream, path.open("rb") as file:
                offset = 0
                while offset < SIZE:
                    offset += os.sendfile(stream.fileno(), file.fileno(), offset, SIZE - offset)


def take(stream: socket.socket, buffer: bytearray, count: int) -> None:
    while count:
        got = stream.recv_into(buffer, min(count, len(buffer)))
        assert got, "the server closed the connection"
        count -= got


def blasted() -> float:
    """MB/s."""
    buffer = bytearray(1 << 20)
    with socket.create_connection((ADDRESS, BLAST_PORT)) as stream:
        began = time.perf_counter()
        take(stream, buffer, SIZE)
        return SIZE / (time.perf_counter() - began) / 1e6


def read() -> float:
    """MB/s; every reply is read whole, its length taken from its record mark."""
    root = NfsRoot(WIRE, CLIENT, SERVER, "/roots/notebook")
    handle = next(entry.handle for entry in root.entries(root.top) if entry.name == b"large") or b""
    calls = [
        mark(
            serialise_call(
                n, nfs3.PROGRAM, 3, Procedure.READ, calls.serialise_read(handle, at, CALL)
            )
        )
        for n, at in enumerate(range(0, SIZE, CALL))
    ]
    buffer, stream = bytearray(1 << 20), root._sock
    began = time.perf_counter()
    for call in calls[:UNDER_WAY]:
        stream.sendall(call)
    received = 0
    for number in range(len(calls)):
        head = stream.recv(4, socket.MSG_WAITALL)
        length = int.from_bytes(head, "big") & 0x7FFFFFFF
        take(stream, buffer, length)
        received += length
        if number + UNDER_WAY < len(calls):
            stream.sendall(calls[number + UNDER_WAY])
    seconds = time.perf_counter() - began
    root.close()
    assert received > SIZE
    return SIZE / seconds / 1e6


def main() -> None:
    with daskel(os.urandom(1 << 20) * (SIZE >> 20)) as folder:
        path = folder / "roots/notebook/large"
        with beside(blast, path):
            time.sleep(0.5)
            title = f"NFS READ, {SIZE >> 20} MiB, {CALL >> 10} KiB a call, {UNDER_WAY} under way"
            compare(title, "MB/s", read, ("TCP blast", blasted))


if __name__ == "__main__":
    main()
