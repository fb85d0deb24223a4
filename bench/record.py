"""`serve --record` beside a busy wire: frames a second that are all recorded, to those of a line of
1 Gbit/s. Needs root: the wire is a veth pair in namespaces of its own.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from ipaddress import IPv4Address
from pathlib import Path

from common import QUICK

from daskel.core.dhcp.client_messages import Face, discover
from daskel.core.dhcp.packet import Packet, serialise
from daskel.core.dhcp.pxe import Firmware
from daskel.demo.data import lay_out
from daskel.rehearse.network import Network

MAC, SERVER = "02:61:08:00:00:01", "02:61:00:00:00:01"
OWN, GATE, ALL = (IPv4Address(text) for text in ("10.61.8.21", "10.61.8.1", "255.255.255.255"))
BLOCK = 1400  # bytes of a file in a frame
LINE = 1e9 / 8 / (BLOCK + 4 + 8 + 20 + 14 + 24)  # frames a second; TFTP, UDP, IP, Ethernet, gaps
SECONDS, TRIES = (1, [0.25]) if QUICK else (2, [part / 8 for part in range(2, 13)])  # of the line
SEND = """
import json, socket, sys, time
frames, rate, seconds = json.loads(sys.argv[1])
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
wire.bind(("eth0", 0))
*before, block = map(bytes.fromhex, frames)
for frame in before:
    wire.send(frame)
time.sleep(0.5)
began, sent = time.monotonic(), 0
while (now := time.monotonic() - began) < seconds:
    while sent < now * rate:
        wire.send(block)
        sent += 1
print(sent)
"""


def frame(source: str, target: str, ends: tuple[IPv4Address, IPv4Address], ports: tuple[int, int],
          data: bytes) -> bytes:  # fmt: skip
    udp = b"".join(port.to_bytes(2, "big") for port in (*ports, 8 + len(data), 0)) + data
    head = bytes((0x45, 0)) + (20 + len(udp)).to_bytes(2, "big") + bytes((0, 0, 0, 0, 64, 17, 0, 0))
    hardware = bytes.fromhex((target + source).replace(":", "")) + b"\x08\x00"
    return hardware + head + ends[0].packed + ends[1].packed + udp


def frames() -> list[bytes]:
    """A client asks, has its address, and is sent a block of a file."""
    asked = discover(Face.of(Firmware.BIOS), MAC, 1)
    given = Packet(2, asked.xid, asked.chaddr, {53: b"\5", 54: GATE.packed}, yiaddr=OWN)
    return [
        frame(MAC, "ff" * 6, (IPv4Address(0), ALL), (68, 67), serialise(asked)[0]),
        frame(SERVER, MAC, (GATE, OWN), (67, 68), serialise(given)[0]),
        frame(SERVER, MAC, (GATE, OWN), (40000, 2070), b"\0\3\0\1" + bytes(BLOCK)),
    ]


def recorded(network: Network, host: list[str], folder: Path, rate: float) -> tuple[int, int]:
    """Blocks that were sent at a rate, and those of them that are in the file."""
    packets = folder / f"{rate:.0f}"
    packets.mkdir()
    command = [sys.executable, "-m", "daskel.service.recorder", packets, folder / "daskel.toml"]
    recorder = subprocess.Popen(
        [*network.inside, *command, "c"], stdin=subprocess.PIPE, stdout=subprocess.PIPE
    )
    assert recorder.stdout and recorder.stdin and recorder.stdout.readline() == b"ready\n"
    told = json.dumps([[one.hex() for one in frames()], rate, SECONDS])
    sender = [*host, sys.executable, "-c", SEND, told]
    sent = int(subprocess.run(sender, check=True, capture_output=True, text=True).stdout)
    time.sleep(1)
    recorder.stdin.close()
    recorder.wait()
    (file,) = packets.glob("*.pcap")
    return sent, _packets(file.read_bytes()) - 2


def _packets(capture: bytes) -> int:
    at, count = 24, 0
    while at < len(capture):
        at += 16 + int.from_bytes(capture[at + 8 : at + 12], sys.byteorder)
        count += 1
    return count


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="daskel-bench-") as name:
        folder, best = Path(name), 0.0
        lay_out(folder)
        network = Network([f"{GATE}/24"])
        try:
            host = network.add_host("c", f"{OWN}/24")
            for part in TRIES:
                sent, kept = recorded(network, host, folder, LINE * part)
                print(f"{sent / SECONDS:10,.0f} frames/s: {kept / sent:7.2%} recorded")
                if kept < sent:
                    break
                best = sent / SECONDS
        finally:
            network.close()
    print(f"all recorded, of a line of 1 Gbit/s ({LINE:,.0f} frames/s): {best / LINE:.2f}")


if __name__ == "__main__":
    main()
