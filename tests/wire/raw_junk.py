"""Sends frames of any bytes that look like MOP's and RPL's: INTERFACE COUNT."""

import random
import socket
import sys

from daskel.core.mop.messages import LOAD_GROUP
from daskel.core.rpl.messages import GROUP

HEADS = (
    (LOAD_GROUP, b"\x60\x01"), (LOAD_GROUP, b"\x60\x02"),
    (LOAD_GROUP, b"\0\x20\xaa\xaa\x03\x08\0\x2b\x60\x01"), (GROUP, b"\0\x30\xfc\xfc\x03"),
)  # fmt: skip
BEGINS = (b"", b"\x08", b"\x0a", b"\0\x08", b"\x28\0\x08\x25\1\2", b"\0\x20\0\x01", b"\0\x20\0\x10")
chance = random.Random(6)
made = []
for number in range(20_000):  # different ones; the machines that they say they are of, too
    group, kind = HEADS[number % len(HEADS)]
    body = chance.choice(BEGINS) + chance.randbytes(chance.randrange(1, 90))
    made.append(
        group + bytes((2, number % 256)) + chance.randbytes(4) + kind + body.ljust(46, b"\0")
    )
with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0) as sock:
    sock.bind((sys.argv[1], 3))
    for number in range(int(sys.argv[2])):
        sock.send(made[number % len(made)])
