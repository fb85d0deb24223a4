"""Boots one simulated machine by MOP: INTERFACE MAC FRAMING NAME FILE [LOSS]; says how it went."""

import random
import sys
from pathlib import Path

from daskel.core.mop.messages import Framing
from daskel.rehearse import raw
from daskel.rehearse.fetch import BootError

interface, mac, framing, name, file, *loss = sys.argv[1:]
client = raw.MopClient(interface, bytes.fromhex(mac.replace(":", "")), Framing[framing])
raw._TRIES = 2
if loss:
    chance, plain = random.Random(mac), raw.parse_frame
    raw.parse_frame = lambda data: None if chance.random() < float(loss[0]) else plain(data)
try:
    client.boot(name)
except BootError as error:
    sys.exit(str(error))
Path(file).write_bytes(client.image)
sys.stdout.write(f"{client.address:#x} {client.transfer:#x}\n")
