"""Sockets that get some frames of one interface and send others, without IP."""

from __future__ import annotations

import ctypes
import socket
import struct
from collections.abc import Sequence
from contextlib import suppress

from daskel.system.requirements import MissingRequirementError

Rule = tuple[int, int, int, int]  # of classic BPF: code, lines to skip if true, if not, value
LOAD_HALF, LOAD_WORD, AND, EQUAL, GREATER, RETURN = 0x28, 0x20, 0x54, 0x15, 0x25, 0x06
TAKE, LEAVE = (RETURN, 0, 0, 0x40000), (RETURN, 0, 0, 0)
_SOL_PACKET, _ADD_MEMBERSHIP, _MULTICAST = 263, 1, 0  # packet(7)
_IGNORE_OUTGOING = 23  # PACKET_IGNORE_OUTGOING, packet(7)
_SO_ATTACH_FILTER = 26  # socket(7)
_ALL = 3  # ETH_P_ALL: frames of 802.3 have no protocol of their own


def packets(interface: str, rules: Sequence[Rule], groups: Sequence[bytes]) -> socket.socket:
    """Frames of one interface that a filter of the kernel lets through, also those to some groups.

    Raises MissingRequirementError.
    """
    try:
        sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW | socket.SOCK_NONBLOCK, 0)
    except PermissionError:
        raise MissingRequirementError(
            f"no permission for raw Ethernet frames on {interface}",
            "run as root, or leave out raw = true",
        ) from None
    try:
        _attach(sock, rules)
        with suppress(OSError):  # kernels before 4.20 show our own frames, which nobody asks by
            sock.setsockopt(_SOL_PACKET, _IGNORE_OUTGOING, 1)
        sock.bind((interface, _ALL))
        index = socket.if_nametoindex(interface)
        for group in groups:
            member = struct.pack("=iHH8s", index, _MULTICAST, len(group), group)
            sock.setsockopt(_SOL_PACKET, _ADD_MEMBERSHIP, member)
    except OSError as error:
        sock.close()
        raise MissingRequirementError(
            f"raw Ethernet frames on {interface}: {error.strerror}",
            "correct interface = ..., or leave out raw = true",
        ) from None
    return sock


def _attach(sock: socket.socket, rules: Sequence[Rule]) -> None:
    code = ctypes.create_string_buffer(b"".join(struct.pack("=HBBI", *rule) for rule in rules))
    program = struct.pack("HP", len(rules), ctypes.addressof(code))
    sock.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, program)
