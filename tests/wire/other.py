"""Stand-ins for what else is on a wire: `other.py server INTERFACE OWN GIVEN` is a DHCP server
that gives addresses from GIVEN on and knows nothing of booting (with VENDOR-CLASS in every reply,
to the machine MAC alone); `other.py relay NEAR FAR OWN SERVER` a
relay agent."""

from __future__ import annotations

import os
import socket
import sys
from dataclasses import replace
from ipaddress import IPv4Address

from daskel.core.dhcp.packet import NOWHERE, MessageType, Packet, parse, serialise


def listen(interface: str, address: str = "0.0.0.0") -> socket.socket:
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
    sock.bind((address, 67))
    return sock


def server(interface: str, own: str, given: str, vendor_class: str = "", only: str = "") -> None:
    sock = listen(interface)
    os.write(1, b"ready\n")
    answers = {MessageType.DISCOVER: b"\2", MessageType.REQUEST: b"\5"}
    while True:
        asked = parse(sock.recv(2048))
        chosen = asked.address_option(54)
        if asked.message_type not in answers or chosen not in (None, IPv4Address(own)):
            continue
        if only and asked.chaddr[:6].hex(":") != only:
            continue
        options = {53: answers[asked.message_type], 54: IPv4Address(own).packed,
                   51: (600).to_bytes(4, "big"), 1: bytes((255, 255, 255, 0))}  # fmt: skip
        # as the networks are that people have: router, name servers, domain, time server
        there = IPv4Address(own).packed[:3]
        options |= {3: there + b"\xfe", 6: there + b"\xfd", 15: b"tide.skerry.example",
                    42: there + b"\xfc"}  # fmt: skip
        if vendor_class:
            options[60] = vendor_class.encode()
        address = IPv4Address(given) + (asked.chaddr[5] & 15)
        reply = Packet(2, asked.xid, asked.chaddr, options, flags=0x8000, yiaddr=address)
        sock.sendto(serialise(reply)[0], ("255.255.255.255", 68))


def relay(near: str, far: str, agent: str, target: str) -> None:
    clients, servers = listen(far), listen(near, "0.0.0.0")
    import select

    while True:
        for ready in select.select([clients, servers], [], [])[0]:
            packet = parse(ready.recv(2048))
            if ready is clients and packet.op == 1 and packet.giaddr == NOWHERE:
                circuit = {82: bytes((1, 4)) + b"far0"}
                sent = replace(
                    packet, giaddr=IPv4Address(agent), options={**packet.options, **circuit}
                )
                servers.sendto(serialise(sent, 1400)[0], (target, 67))
            elif ready is servers and packet.op == 2:
                assert packet.options.get(82) == bytes((1, 4)) + b"far0", packet
                sent = replace(packet, options={c: v for c, v in packet.options.items() if c != 82})
                clients.sendto(serialise(sent, 1400)[0], ("255.255.255.255", 68))


{"server": server, "relay": relay}[sys.argv[1]](*sys.argv[2:])
