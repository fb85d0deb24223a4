"""This machine's network interfaces and their addresses."""

from __future__ import annotations

import socket
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface

_PERMANENT = 0x80  # IFA_F_PERMANENT: an address without an end, unlike one that came by DHCP


@dataclass(frozen=True, slots=True)
class Interface:
    """`addresses` are with whether each is fixed, and not given by DHCP for a time."""

    name: str
    hardware: str  # 02:61:...; empty for those without
    link: bool  # a cable is in, and the other end is awake
    addresses: dict[IPv4Interface, bool]


def interfaces(*, loopback: bool = False) -> list[Interface]:
    """All of them, without the loopback interface unless it is asked for."""
    from pyroute2 import IPRoute  # takes half a second, and few commands look

    with IPRoute() as netlink:
        found = {
            link["index"]: Interface(
                str(link.get_attr("IFLA_IFNAME")),
                str(link.get_attr("IFLA_ADDRESS") or ""),
                link.get_attr("IFLA_OPERSTATE") in ("UP", "UNKNOWN") and bool(link["flags"] & 1),
                {},
            )
            for link in netlink.get_links()
            if loopback or not link["flags"] & 8  # IFF_LOOPBACK
        }
        for address in netlink.get_addr(family=2):
            text = address.get_attr("IFA_LOCAL") or address.get_attr("IFA_ADDRESS")
            fixed = bool((address.get_attr("IFA_FLAGS") or address["flags"]) & _PERMANENT)
            if address["index"] in found:
                whole = IPv4Interface(f"{text}/{address['prefixlen']}")
                found[address["index"]].addresses[whole] = fixed
    return list(found.values())


def addresses() -> dict[str, dict[IPv4Address, bool]]:
    """IPv4 addresses by interface name, with whether each is fixed."""
    return {
        i.name: {a.ip: fixed for a, fixed in i.addresses.items()} for i in interfaces(loopback=True)
    }


def is_here(address: IPv4Address) -> bool:
    """Whether this machine has it; found out without the library, which takes its time."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        try:
            sock.bind((str(address), 0))
        except OSError:
            return False
    return True


def interface_of(address: IPv4Address) -> str | None:
    """The interface that has `address`."""
    return next((name for name, own in addresses().items() if address in own), None)
