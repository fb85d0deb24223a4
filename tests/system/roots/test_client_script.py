"""The script that mounts images, part by part, by this machine's perl against servers of the test."""

from __future__ import annotations

import random
import re
import shutil
import socket
import subprocess
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from importlib.resources import files
from pathlib import Path

import pytest

from daskel.core.nbd.handshake import Export, Handshake
from daskel.core.nbd.numbers import Can

SCRIPT = files("daskel.system.roots").joinpath("client", "daskel.pl")
DATA = random.Random(61).randbytes(3_000_000)
# Defines what the script defines, without doing what it does, and calls one part of it.
HARNESS = """
eval { do $ENV{SCRIPT} };
{ no warnings; *main::available = sub { $ENV{MEMORY} }; *main::uptime = sub { time }; }
open(STDERR, '>', '/dev/null');
eval { $ENV{WHAT} eq 'fetch' ? fetch($ENV{URL}, $ENV{FILE}) : print join ' ', (handshake(split / /, $ENV{URL}))[1, 2]; 1 };
print $@;
"""
pytestmark = pytest.mark.skipif(not shutil.which("perl"), reason="no perl")
Answer = Callable[[socket.socket, bytes], None]


@contextmanager
def server(answer: Answer) -> Iterator[int]:
    """Hears one request on each connection; its port."""
    with socket.create_server(("127.0.0.1", 0)) as listening:

        def run() -> None:
            while True:
                try:
                    sock, _ = listening.accept()
                except OSError:
                    return
                with sock:
                    try:
                        answer(sock, sock.recv(65536))
                    except OSError:
                        continue

        threading.Thread(target=run, daemon=True).start()
        yield listening.getsockname()[1]
        listening.shutdown(socket.SHUT_RDWR)


def said(what: str, url: str, file: Path | None = None, memory: int = 1 << 40) -> str:
    """What a part of the script prints, or why it stops."""
    given = {"SCRIPT": str(SCRIPT), "WHAT": what, "URL": url, "MEMORY": str(memory)}
    given["FILE"] = str(file or "")
    done = subprocess.run(
        ["perl", "-e", HARNESS], env=given, capture_output=True, text=True, check=False
    )
    return done.stdout.strip()


def _range(request: bytes) -> int:
    match = re.search(rb"Range: bytes=(\d+)-", request)
    return int(match[1]) if match else 0


def _head(start: int, size: int) -> bytes:
    return (
        f"HTTP/1.1 206 Partial Content\r\nContent-Length: {size - start}\r\n"
        f"Content-Range: bytes {start}-{size - 1}/{size}\r\n\r\n"
    ).encode()


def whole(sock: socket.socket, request: bytes) -> None:
    start = _range(request)
    sock.sendall(_head(start, len(DATA)) + DATA[start:])


def cut_off(sock: socket.socket, request: bytes) -> None:
    """A connection that ends after a part, each time."""
    start = _range(request)
    sock.sendall(_head(start, len(DATA)) + DATA[start : start + 700_001])


def grown(sock: socket.socket, request: bytes) -> None:
    """Another image is there when it is gone on with."""
    start = _range(request)
    size = len(DATA) + (5 if start else 0)
    sock.sendall(_head(start, size) + DATA[start : start + 1_000_000])


def missing(sock: socket.socket, _: bytes) -> None:
    sock.sendall(b"HTTP/1.1 404 Not Found\r\nContent-Length: 0\r\n\r\n")


@pytest.mark.parametrize("answer", [whole, cut_off])
def test_an_image_comes_whole(answer: Answer, tmp_path: Path) -> None:
    with server(answer) as port:
        assert said("fetch", f"http://127.0.0.1:{port}/root.img", tmp_path / "root") == ""
    assert (tmp_path / "root").read_bytes() == DATA


def test_why_it_does_not(tmp_path: Path) -> None:
    file = tmp_path / "root"
    with server(whole) as port:
        url = f"http://127.0.0.1:{port}/root.img"
        small = said("fetch", url, file, memory=100_000_000)
        assert (
            small == "memory: 3 MB for the image and 157 MB beside it are needed, 100 MB are there"
        )
    with server(missing) as port:
        url = f"http://127.0.0.1:{port}/root.img"
        assert said("fetch", url, file) == f"absent: {url}: HTTP 404"
    with server(grown) as port:
        url = f"http://127.0.0.1:{port}/root.img"
        assert said("fetch", url, file) == "digest: the image was changed while it was fetched"
    assert said("fetch", "nothing", file) == "arguments: not a URL: nothing"


def _nbd(reply: bytes) -> Answer:
    def answer(sock: socket.socket, _: bytes) -> None:
        sock.sendall(reply)
        sock.recv(4096)

    return answer


def test_an_export_that_is_refused() -> None:
    """By words of the server's, or by something else that listens there."""

    def speaks(sock: socket.socket, first: bytes) -> None:
        shaking = Handshake()
        found = shaking.receive(first)
        while True:
            if found is not None:
                there = getattr(found, "name", "") == "notebook@1"
                found = shaking.export(Export(4096) if there else None, "it is not yours")
            sock.sendall(shaking.out)
            shaking.out = b""
            data = sock.recv(4096)
            if not data:
                return
            found = shaking.receive(data)

    with socket.create_server(("127.0.0.1", 0)) as listening:
        port = listening.getsockname()[1]

        def run() -> None:
            for _ in range(2):
                sock, _ = listening.accept()
                with sock:
                    speaks(sock, b"")

        threading.Thread(target=run, daemon=True).start()
        flags = int(Can.HAS_FLAGS | Can.READ_ONLY | Can.FLUSH | Can.FUA | Can.MULTI_CONN)
        assert said("handshake", f"127.0.0.1 {port} notebook@1") == f"4096 {flags}"
        assert said("handshake", f"127.0.0.1 {port} other@1") == "absent: it is not yours"
    with server(_nbd(b"")) as port:
        assert said("handshake", f"127.0.0.1 {port} x").startswith("server: ")
