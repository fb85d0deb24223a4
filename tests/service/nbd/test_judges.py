"""NBD against programs that others made: libnbd's and QEMU's."""

from __future__ import annotations

import os
import random
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from daskel.core.nbd.numbers import OPTIONS, Option
from daskel.core.nbd.requests import Request, serialise
from tests.conftest import until

CI = "CI" in os.environ  # there a missing program is a failure
MISSING = [name for name in ("nbdinfo", "nbdcopy", "qemu-io") if not shutil.which(name)]
pytestmark = pytest.mark.skipif(bool(MISSING) and not CI, reason=f"not installed: {MISSING}")
SERVER = """
import asyncio, os, socket, sys
from daskel.core.nbd.handshake import Export
from daskel.service.nbd.stream import BlockStream, Opened

FILES = {"image": (sys.argv[1], os.O_RDONLY), "disk": (sys.argv[2], os.O_RDWR)}

async def names(): return list(FILES)

async def find(name):
    if name not in FILES: return "it is not here"
    path, how = FILES[name]
    return Opened(Export(os.stat(path).st_size, how == os.O_RDWR, "of a test"), os.open(path, how))

async def main():
    listening, loop = socket.create_server(("127.0.0.1", 0), backlog=100), asyncio.get_running_loop()
    listening.setblocking(False)
    print(listening.getsockname()[1], flush=True)
    while True:
        sock, peer = await loop.sock_accept(listening)
        say = lambda reason: print("malformed", reason, flush=True)
        BlockStream(sock, peer[0], 1, names, find, say, lambda _: None)

asyncio.run(main())
"""


@dataclass
class Served:
    """What is served: an image and a disk, in files."""

    image: Path
    disk: Path
    port: int
    process: subprocess.Popen[str]

    def url(self, name: str) -> str:
        return f"nbd://127.0.0.1:{self.port}/{name}"

    @property
    def memory(self) -> int:
        """Bytes that the server has in memory."""
        lines = Path(f"/proc/{self.process.pid}/status").read_text().splitlines()
        return next(int(line.split()[1]) * 1024 for line in lines if line.startswith("VmRSS"))


@pytest.fixture
def served(tmp_path: Path) -> Iterator[Served]:
    image, disk = tmp_path / "image", tmp_path / "disk"
    image.write_bytes(random.Random(61).randbytes(40_000_123))
    with disk.open("wb") as file:
        file.truncate(64 << 20)
    command = [sys.executable, "-c", SERVER, image, disk]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout
        yield Served(image, disk, int(process.stdout.readline()), process)
        process.kill()


def said(*command: str | Path) -> str:
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done
    return done.stdout


def test_libnbd(served: Served, tmp_path: Path) -> None:
    listed = said("nbdinfo", "--list", served.url(""))
    assert 'export="image"' in listed
    assert "is_read_only: true" in listed and "can_trim: true" in listed
    said("nbdcopy", served.url("image"), tmp_path / "copy")
    assert (tmp_path / "copy").read_bytes() == served.image.read_bytes()
    said("nbdcopy", served.image, served.url("disk"))
    whole = served.image.read_bytes()
    assert served.disk.read_bytes()[: len(whole)] == whole
    refused = subprocess.run(["nbdinfo", served.url("x")], capture_output=True, check=False)
    assert refused.returncode != 0


def test_qemu(served: Served) -> None:
    done = [
        "write -P 7 100 5000", "read -P 7 100 5000", "write -z 0 1M", "read -P 0 0 1M",
        "discard 2M 4M", "read -P 0 2M 4M", "write -f -P 9 20M 33M", "read -P 9 20M 32M", "flush",
        "aio_write -P 1 0 64k", "aio_write -P 2 64k 64k", "aio_flush", "read -P 2 64k 64k",
    ]  # fmt: skip
    words = [word for command in done for word in ("-c", command)]
    text = said("qemu-io", "-f", "raw", *words, served.url("disk"))
    assert "Pattern verification failed" not in text and "error" not in text.lower()
    assert served.disk.read_bytes()[20 << 20 : 53 << 20] == b"\t" * (33 << 20)
    identical = said(
        "qemu-img", "compare", "-f", "raw", "-F", "raw", served.image, served.url("image")
    )
    assert "identical" in identical
    read_only = subprocess.run(
        ["qemu-io", "-f", "raw", "-c", "write 0 512", served.url("image")],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert read_only.returncode != 0 and "Permission denied" in read_only.stderr


def test_who_reads_slowly_takes_no_memory(served: Served) -> None:
    """Each asks for hundreds of megabytes, and takes none of it."""
    before, socks = served.memory, []
    go = b"\0\0\0\x05image\0\0"
    for _ in range(20):
        sock = socket.create_connection(("127.0.0.1", served.port))
        head = OPTIONS.to_bytes(8, "big") + int(Option.GO).to_bytes(4, "big")
        sock.sendall(b"\0\0\0\3" + head + len(go).to_bytes(4, "big") + go)
        for size in (4096, 32 << 20):
            sock.sendall(b"".join(serialise(Request(0, 0, n, 0, size)) for n in range(2000)))
        socks.append(sock)
    time.sleep(1)
    assert served.memory - before < 60 << 20
    text = said("nbdinfo", "--size", served.url("image"))
    assert int(text) == served.image.stat().st_size, "others are served meanwhile"
    for sock in socks:
        sock.close()
    until(lambda: served.process.poll() is None)
