"""This machine's network interfaces and their addresses."""

from __future__ import annotations

from ipaddress import IPv4Address

_PERMANENT = 0x80  # IFA_F_PERMANENT: an address without an end, unlike one that came by DHCP


def addresses() -> dict[str, dict[IPv4Address, bool]]:
    """IPv4 addresses by interface name, with whether each is fixed; interfaces without one are
    there, too."""
    from pyroute2 import IPRoute  # takes half a second, and few commands look

    with IPRoute() as netlink:
        names = {link["index"]: str(link.get_attr("IFLA_IFNAME")) for link in netlink.get_links()}
        found: dict[str, dict[IPv4Address, bool]] = {name: {} for name in names.values()}
        for address in netlink.get_addr(family=2):
            text = address.get_attr("IFA_LOCAL") or address.get_attr("IFA_ADDRESS")
            fixed = bool((address.get_attr("IFA_FLAGS") or address["flags"]) & _PERMANENT)
            found[names[address["index"]]][IPv4Address(text)] = fixed
    return found


def interface_of(address: IPv4Address) -> str | None:
    """The interface that has `address`."""
    return next((name for name, own in addresses().items() if address in own), None)
