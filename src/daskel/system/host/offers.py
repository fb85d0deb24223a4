"""Asks a wire who answers DISCOVERs there, and takes nothing of what is offered."""

from __future__ import annotations

import socket
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from daskel.core.dhcp import frame
from daskel.core.dhcp.client_messages import look_asks_as
from daskel.core.dhcp.packet import BROADCAST_FLAG, MessageType, Packet, parse, serialise
from daskel.core.reader import MalformedError
from daskel.system.requirements import MissingRequirementError

_EVERYBODY = b"\xff" * 6
_BROADCAST, _NOWHERE = IPv4Address("255.255.255.255"), IPv4Address(0)


@dataclass(frozen=True, slots=True)
class HeardOffer:
    """One offer, and who sent it."""

    asked: int  # which of the messages it answers
    offer: Packet
    address: IPv4Address  # of the sender
    hardware: str


def offers(interface: str, messages: Sequence[Packet], seconds: float) -> list[HeardOffer]:
    """Send DISCOVERs with frames of our own, so that no address and no port is needed; what
    comes back within `seconds`. Raises MissingRequirementError."""
    try:
        sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(frame.IPV4))
    except PermissionError:
        raise MissingRequirementError("no permission to ask the wire", "run as root") from None
    with sock:
        try:
            sock.bind((interface, frame.IPV4))
            own: bytes = sock.getsockname()[4]
            _ask(sock, own, messages)
        except OSError as error:
            problem = f"interface {interface} cannot be asked ({error.strerror})"
            raise MissingRequirementError(problem, "daskel survey lists the interfaces") from None
        return _listen(sock, own, messages, seconds)


def _ask(sock: socket.socket, own: bytes, messages: Sequence[Packet]) -> None:
    for number, message in enumerate(messages):
        asked = replace(
            message, chaddr=look_asks_as(own).ljust(16, b"\0"), xid=message.xid + number,
            flags=BROADCAST_FLAG,
        )  # fmt: skip
        source, target = (own, _NOWHERE, 68), (_EVERYBODY, _BROADCAST, 67)
        sock.send(frame.datagram(source, target, serialise(asked)[0]))


def _listen(
    sock: socket.socket, own: bytes, messages: Sequence[Packet], seconds: float
) -> list[HeardOffer]:
    heard: dict[tuple[int, str, IPv4Address], HeardOffer] = {}
    until = time.monotonic() + seconds
    while (left := until - time.monotonic()) > 0:
        sock.settimeout(left)
        try:
            data = sock.recv(4096)
        except TimeoutError:
            break
        found = frame.udp_payload(data, 68)
        if found is None:
            continue
        try:
            offer = parse(found[1])
        except MalformedError:
            continue
        number = offer.xid - messages[0].xid
        mine = offer.chaddr[:6] == look_asks_as(own) and 0 <= number < len(messages)
        if mine and offer.op == 2 and offer.message_type is MessageType.OFFER:
            hardware = data[6:12].hex(":")
            heard[number, hardware, offer.yiaddr] = HeardOffer(number, offer, found[0], hardware)
    return list(heard.values())
