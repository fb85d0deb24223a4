"""Sends magic packets from this machine."""

from __future__ import annotations

import socket
from ipaddress import IPv4Address

from daskel.system.requirements import MissingRequirementError


def send(packet: bytes, source: IPv4Address, target: IPv4Address, port: int) -> None:
    """Raises MissingRequirementError when this machine does not have the address `source`, or
    reaches no such network."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
        try:
            sock.bind((str(source), 0))
        except OSError as error:
            problem = f"this machine does not have the address {source} ({error.strerror})"
            raise MissingRequirementError(problem, "run it on the server") from None
        try:
            sock.sendto(packet, (str(target), port))
        except OSError as error:
            problem = f"cannot send to {target} ({error.strerror})"
            remedy = "check the network; wake-through in the segment names another way there"
            raise MissingRequirementError(problem, remedy) from None
