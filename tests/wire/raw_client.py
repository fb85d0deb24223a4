"""Boots one simulated machine: INTERFACE MAC KIND NAME FILE [LOSS]; says how it went. KIND is a
framing of MOP, or RPL; of RPL, the frames are kept in FILE.pcap."""

import random
import socket
import struct
import sys
import time
from pathlib import Path

from daskel.core.mop.messages import Framing
from daskel.rehearse.fetch import BootError
from daskel.rehearse.raw import MopClient, RplClient

interface, mac, kind, name, file, *loss = sys.argv[1:]


class Interface:
    """Frames of an interface, some of which are lost."""

    def __init__(self, name: str) -> None:
        self._sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        self._sock.bind((name, 3))  # ETH_P_ALL
        self._chance, self._loss = random.Random(mac), float(loss[0]) if loss else 0.0
        self.frames = bytearray(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1))

    def keep(self, frame: bytes) -> None:
        if kind == "RPL":
            self.frames += struct.pack("<IIII", 0, 0, len(frame), len(frame)) + frame

    def send(self, frame: bytes) -> None:
        self.keep(frame)
        self._sock.send(frame)

    def receive(self, seconds: float) -> bytes:
        self._sock.settimeout(seconds)
        frame = self._sock.recv(2048)
        self.keep(frame)
        return b"" if self._chance.random() < self._loss else frame


line, own = Interface(interface), bytes.fromhex(mac.replace(":", ""))
client = RplClient(line, own) if kind == "RPL" else MopClient(line, own, framing=Framing[kind])
if kind == "RPL":
    client.sap = 0xF8
client.tries = 20 if loss else 2
began = time.perf_counter()
try:
    client.boot(name)
except BootError as error:
    sys.exit(str(error))
took = time.perf_counter() - began
Path(file).write_bytes(client.image)
Path(f"{file}.pcap").write_bytes(line.frames)
places = ",".join(f"{address:#x}:{len(data)}" for address, data in client.by_image([0x900000]))
sys.stdout.write(f"{places} {client.start:#x} {took:.4f}\n")
