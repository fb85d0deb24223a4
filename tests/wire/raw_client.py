"""Boots one simulated machine: INTERFACE MAC KIND NAME FILE [LOSS]; says how it went. KIND is a
framing of MOP, or RPL."""

import random
import sys
import time
from pathlib import Path

import raw_machines as raw

from daskel.core.mop.messages import Framing
from daskel.core.rpl import messages as rpl
from daskel.rehearse.fetch import BootError

interface, mac, kind, name, file, *loss = sys.argv[1:]
own = bytes.fromhex(mac.replace(":", ""))
if kind == "RPL":
    client = raw.RplClient(interface, own, sap=0xF8)
else:
    client = raw.MopClient(interface, own, Framing[kind])
raw._TRIES = 2 if not loss else 20
chance = random.Random(mac)


def lossy(parse):
    return lambda data: None if chance.random() < float(loss[0]) else parse(data)


if loss:
    raw.parse_frame, rpl.parse_frame = lossy(raw.parse_frame), lossy(rpl.parse_frame)
began = time.perf_counter()
try:
    client.boot(name)
except BootError as error:
    sys.exit(str(error))
took = time.perf_counter() - began
Path(file).write_bytes(client.image)
sys.stdout.write(f"{client.address:#x} {client.transfer:#x} {took:.4f}\n")
