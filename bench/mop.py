"""A load by MOP against a bare loop that answers each acknowledgement with the next frame, made
before. Needs root: network namespaces."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

from common import compare

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.wire.test_raw import IMAGE, ONE, Wire

BARE = f"""
import socket, sys
sys.path.insert(0, {str(Path(__file__).parents[1] / "src")!r})
from daskel.core.mop import messages as m
image, client = bytes({len(IMAGE)}), bytes.fromhex("026108000009")
sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
sock.bind(("tide0", 3))
own = sock.getsockname()[4]
parts = range(0, len(image), 1024)
made = [m.memory_load(at // 1024, at, image[at : at + 1024]) for at in parts]
made.append(m.parameters(len(made), 0))
frames = [m.serialise_frame(m.Frame(client, own, m.Protocol.LOAD, m.Framing.SNAP, x)) for x in made]
there = m.serialise_frame(m.Frame(client, own, m.Protocol.LOAD, m.Framing.SNAP, m.volunteer()))
at = 0
while True:
    data = sock.recv(2048)
    if data[6:12] != client or data[20:22] != b"\\x60\\x01":
        continue
    if data[22] == 8:
        at = 0
        sock.send(frames[0] if data[:6] == own else there)
    elif data[22] == 10 and at + 1 < len(frames):
        at += 1
        sock.send(frames[at])
"""


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="daskel-bench-") as name:
        wire = Wire(Path(name))
        try:
            wire.open()
            wire.net.start("server", sys.executable, "-c", BARE, log=wire.folder / "bare.log")
            time.sleep(1)

            def load(mac: str) -> float:
                wire.boot(mac).wait(60)
                took = float(wire.said(mac).split()[2])
                return len(IMAGE) / took / 1e3

            compare("MOP: a load of 300 KiB", "kB/s", lambda: load(ONE),
                    ("bare loop", lambda: load("02:61:08:00:00:09")), goal=0.5)  # fmt: skip
        finally:
            wire.net.close()


if __name__ == "__main__":
    if os.geteuid() == 0:
        main()
    else:
        print("MOP: not measured, network namespaces need root")
