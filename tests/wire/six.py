"""A machine on a wire over IPv6: `six.py take INTERFACE MAC` is firmware that takes an address, and
prints it with its boot file and its seconds; `six.py flood INTERFACE COUNT` as many made-up machines that ask."""

from __future__ import annotations

import socket
import sys

from daskel.core.dhcp6.client_messages import ALL, request, solicit
from daskel.core.dhcp6.message import Message, Type, parse

FIRMWARE = (7, "PXEClient:Arch:00007:UNDI:003000")


def asked(sock: socket.socket, message: bytes, index: int) -> Message:
    for _ in range(20):
        sock.sendto(message, (str(ALL), 547, 0, index))
        try:
            while True:
                answer = parse(sock.recv(2048))
                if answer.xid == int.from_bytes(message[1:4], "big"):
                    return answer
        except TimeoutError:
            continue
    raise SystemExit("no answer")


def main(what: str, interface: str, last: str) -> None:
    index = socket.if_nametoindex(interface)
    sock = socket.socket(socket.AF_INET6, socket.SOCK_DGRAM)
    sock.bind(("::", 546))
    sock.settimeout(1)
    if what == "flood":
        for n in range(int(last)):
            mac = "02:61:ff:" + n.to_bytes(3, "big").hex(":")
            sock.sendto(solicit(mac, *FIRMWARE, n & 0xFFFFFF), (str(ALL), 547, 0, index))
        return
    offer = asked(sock, solicit(last, *FIRMWARE, 1), index)
    assert offer.type is Type.ADVERTISE
    told = asked(sock, request(last, *FIRMWARE, offer, 2), index)
    assert told.type is Type.REPLY and told.address == offer.address
    sys.stdout.write(f"{told.address} {told.boot_file} {told.lease}\n")


if __name__ == "__main__":
    main(*sys.argv[1:])
