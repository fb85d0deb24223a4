"""HTTP, one large file, against a bare sendfile(2) of the same file over TCP."""

from __future__ import annotations

import os
import socket
import subprocess
import tempfile
import time
from importlib.resources import files
from pathlib import Path

from common import CLIENT, SERVER, WIRE, compare, daskel, small, started

SIZE = small(256) << 20  # bytes
BARE_PORT = 25997
ADDRESS = WIRE.outside(SERVER)
FETCH = """
eval { do $ENV{SCRIPT} };
{ no warnings; *main::available = sub { 1 << 40 }; }
fetch(@ARGV);
"""
REQUEST = b"GET /large HTTP/1.1\r\nHost: boot.skerry.example\r\nConnection: close\r\n\r\n"


def bare(path: Path) -> None:
    with socket.create_server((ADDRESS, BARE_PORT)) as listening, path.open("rb") as file:
        while True:
            sock, _ = listening.accept()
            with sock:
                sock.recv(4096)
                at = 0
                while at < SIZE:
                    at += os.sendfile(sock.fileno(), file.fileno(), at, SIZE - at)


def fetch(port: int, into: Path = Path(os.devnull)) -> float:
    """MB/s."""
    buffer, received = bytearray(1 << 20), 0
    source = (WIRE.outside(CLIENT), 0)
    with socket.create_connection((ADDRESS, port), 5, source_address=source) as sock:
        began = time.perf_counter()
        sock.sendall(REQUEST)
        with into.open("wb", buffering=0) as file:
            while count := sock.recv_into(buffer):
                file.write(memoryview(buffer)[:count])
                received += count
    assert received >= SIZE, received
    return received / (time.perf_counter() - began) / 1e6


def fetch_as_initrd(file: Path) -> float:
    """MB/s of the script that fetches an image into memory."""
    script = files("daskel.system.roots").joinpath("client", "daskel.pl")
    url = f"http://{ADDRESS}:{WIRE.ports.http}/large"
    began = time.perf_counter()
    words = ["perl", "-e", FETCH, "fetch", url, str(file)]
    subprocess.run(words, env={"SCRIPT": str(script)}, check=True, stderr=subprocess.DEVNULL)
    seconds = time.perf_counter() - began
    assert file.stat().st_size == SIZE
    return SIZE / seconds / 1e6


def main() -> None:
    with (
        daskel(os.urandom(1 << 20) * (SIZE >> 20)) as folder,
        started(bare, folder / "files/large"),
    ):
        time.sleep(0.5)
        compare(
            f"HTTP, {SIZE >> 20} MiB",
            "MB/s",
            lambda: fetch(WIRE.ports.http),
            ("bare sendfile", lambda: fetch(BARE_PORT)),
            0.7,
        )
        with tempfile.TemporaryDirectory(dir="/dev/shm") as memory:
            compare(
                "memory: an image fetched by the initrd's script",
                "MB/s",
                lambda: fetch_as_initrd(Path(memory) / "root"),
                ("HTTP into memory", lambda: fetch(WIRE.ports.http, Path(memory) / "plain")),
                0.8,
            )


if __name__ == "__main__":
    main()
