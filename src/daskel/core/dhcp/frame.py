"""Ethernet frames around what DHCP needs below UDP: a datagram for a client that has no address
yet (RFC 2131 4.1), and ARP questions whether an address is taken (RFC 826, RFC 5227 2.1.1)."""

from __future__ import annotations

import struct
from ipaddress import IPv4Address

ARP, IPV4 = 0x0806, 0x0800  # types of Ethernet frames
_EVERYBODY, _NOBODY = b"\xff" * 6, bytes(6)
_ARP = struct.Struct("!HHBBH6s4s6s4s")
_IP = struct.Struct("!BBHHHBBH4s4s")
_UDP_PROTOCOL, _HOPS = 17, 64


def datagram(
    source: tuple[bytes, IPv4Address, int], target: tuple[bytes, IPv4Address, int], payload: bytes
) -> bytes:
    """A frame with a UDP datagram; source and target are hardware address, address, port."""
    (own, source_ip, source_port), (hardware, target_ip, target_port) = source, target
    length = 8 + len(payload)
    pseudo = source_ip.packed + target_ip.packed + struct.pack("!BBH", 0, _UDP_PROTOCOL, length)
    udp = struct.pack("!HHHH", source_port, target_port, length, 0)
    checksum = _checksum(pseudo + udp + payload) or 0xFFFF  # RFC 768: zero means none
    udp = udp[:6] + checksum.to_bytes(2, "big")
    fields = (0x45, 0, 20 + length, 0, 0x4000, _HOPS, _UDP_PROTOCOL)
    bare = _IP.pack(*fields, 0, source_ip.packed, target_ip.packed)
    header = _IP.pack(*fields, _checksum(bare), source_ip.packed, target_ip.packed)
    return hardware + own + IPV4.to_bytes(2, "big") + header + udp + payload


def udp_payload(frame: bytes, port: int) -> tuple[IPv4Address, bytes] | None:
    """Sender and content of a datagram to `port`, from a frame off the network; None for others."""
    if len(frame) < 42 or frame[12:14] != IPV4.to_bytes(2, "big") or frame[14] >> 4 != 4:
        return None
    udp = 14 + (frame[14] & 15) * 4
    fragment = int.from_bytes(frame[20:22], "big") & 0x3FFF  # more fragments, or not the first
    if frame[23] != _UDP_PROTOCOL or fragment or len(frame) < udp + 8:
        return None
    target, length = struct.unpack_from("!2xHH", frame, udp)
    if target != port or length < 8:
        return None
    return IPv4Address(frame[26:30]), frame[udp + 8 : udp + length]


def _checksum(data: bytes) -> int:
    """RFC 1071: the sum of all 16-bit numbers, with its carries added, is what is left when all of
    them as one number are divided by 65,535; where nothing is left, it is 65,535 itself."""
    if len(data) % 2:
        data += b"\0"
    total = int.from_bytes(data, "big")
    return ~(total % 0xFFFF or (0xFFFF if total else 0)) & 0xFFFF


def arp_probe(own: bytes, address: IPv4Address) -> bytes:
    """The question who has `address`, of one who does not claim it."""
    body = _ARP.pack(1, IPV4, 6, 4, 1, own, bytes(4), _NOBODY, address.packed)
    return _EVERYBODY + own + ARP.to_bytes(2, "big") + body


def arp_sender(frame: bytes) -> tuple[IPv4Address, bytes] | None:
    """Who says in an ARP frame from the network that it has which address; None for others."""
    if len(frame) < 14 + _ARP.size or frame[12:14] != ARP.to_bytes(2, "big"):
        return None
    kind, protocol, hlen, plen, _, hardware, address, _, _ = _ARP.unpack_from(frame, 14)
    if (kind, protocol, hlen, plen) != (1, IPV4, 6, 4) or address == bytes(4):
        return None
    return IPv4Address(address), hardware


def echo_request(identifier: int, number: int) -> bytes:
    """An ICMP echo request without data (RFC 792)."""
    bare = struct.pack("!BBHHH", 8, 0, 0, identifier, number)
    return bare[:2] + _checksum(bare).to_bytes(2, "big") + bare[4:]
