"""This machine's network interfaces and their addresses."""

from __future__ import annotations

from ipaddress import IPv4Address


def addresses() -> dict[str, list[IPv4Address]]:
    """IPv4 addresses by interface name; interfaces without one are there with an empty list."""
    from pyroute2 import IPRoute  # takes half a second, and few commands look

    with IPRoute() as netlink:
        names = {link["index"]: str(link.get_attr("IFLA_IFNAME")) for link in netlink.get_links()}
        found: dict[str, list[IPv4Address]] = {name: [] for name in names.values()}
        for address in netlink.get_addr(family=2):
            text = address.get_attr("IFA_LOCAL") or address.get_attr("IFA_ADDRESS")
            found[names[address["index"]]].append(IPv4Address(text))
    return found


def interface_of(address: IPv4Address) -> str | None:
    """The interface that has `address`."""
    return next((name for name, own in addresses().items() if address in own), None)
