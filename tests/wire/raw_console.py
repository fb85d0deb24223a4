"""Answers requests for its identity on an interface: INTERFACE."""

import socket
import sys

from daskel.core.mop.messages import (
    Code,
    Frame,
    Info,
    Item,
    Protocol,
    SystemId,
    parse_frame,
    serialise_frame,
)

with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0) as sock:
    sock.bind((sys.argv[1], 3))
    own = sock.getsockname()[4]
    while True:
        frame = parse_frame(sock.recv(2048))
        if frame and frame.protocol is Protocol.CONSOLE and frame.message[0] == Code.REQUEST_ID:
            receipt = int.from_bytes(frame.message[2:4], "little")
            items = (
                Item(Info.FUNCTIONS, b"\x59\0"),
                Item(Info.DEVICE, b"\x25"),
                Item(0x190, b"\1"),
            )
            told = SystemId(receipt, items, broken=b"\x04").serialise()
            answer = Frame(frame.source, own, Protocol.CONSOLE, frame.framing, told)
            sock.send(serialise_frame(answer))
