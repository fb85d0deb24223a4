"""TFTP, one lock-step transfer, against a bare loop that sends the same datagrams.

The bare loop waits for each acknowledgement, and does nothing else: no file, no state, no clock.
Both are fetched by the same client.
"""

from __future__ import annotations

import socket
import time

from common import CLIENT, SERVER, WIRE, beside, compare, daskel, udp

from daskel.core.tftp.packet import Ack, Opcode, Request, data_header, parse

SIZE, BLOCK = 32 << 20, 1428  # bytes
BARE_PORT = 25999
ADDRESS = WIRE.outside(SERVER)


def bare_loop(content: bytes) -> None:
    blocks = [content[i : i + BLOCK] for i in range(0, len(content) + 1, BLOCK)]
    datagrams = [data_header(n) + block for n, block in enumerate(blocks, 1)]
    options = b"\0\6blksize\x001428\0"
    with udp(ADDRESS, BARE_PORT) as sock:
        while True:
            _, peer = sock.recvfrom(2048)
            sock.sendto(options, peer)
            for datagram in datagrams:
                sock.recv(2048)
                sock.sendto(datagram, peer)
            sock.recv(2048)


def fetch(port: int) -> float:
    """MB/s of one transfer."""
    options = {"blksize": str(BLOCK)}
    request = Request(Opcode.READ, b"large", "octet", options).serialise()
    with udp(WIRE.outside(CLIENT)) as sock:
        sock.settimeout(5)
        began = time.perf_counter()
        sock.sendto(request, (ADDRESS, port))
        data, peer = sock.recvfrom(2048)
        parse(data)
        received = _blocks(sock, peer)
        seconds = time.perf_counter() - began
    assert received == SIZE, received
    return received / seconds / 1e6


def _blocks(sock: socket.socket, peer: tuple[str, int]) -> int:
    sock.sendto(Ack(0).serialise(), peer)
    buffer = bytearray(2048)
    head, received = memoryview(buffer)[2:4], 0
    while True:
        length = sock.recv_into(buffer) - 4
        received += length
        sock.sendto(b"\0\4" + head, peer)
        if length < BLOCK:
            return received


def main() -> None:
    content = bytes(range(256)) * (SIZE // 256)
    with daskel(content), beside(bare_loop, content):
        time.sleep(0.5)
        compare(
            f"TFTP, {SIZE >> 20} MiB, blksize {BLOCK}, lock-step",
            "MB/s",
            lambda: fetch(WIRE.ports.tftp),
            ("bare loop", lambda: fetch(BARE_PORT)),
        )


if __name__ == "__main__":
    main()
