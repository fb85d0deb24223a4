"""What a look at this machine says: networks that overlap, and private ones that are free."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from ipaddress import IPv4Interface, IPv4Network
from itertools import combinations

_PRIVATE = [IPv4Network(text) for text in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16")]
# Networks that home routers, hypervisors and tunnels take by themselves: collisions to come.
_CROWDED = [
    IPv4Network(text)
    for text in ("10.0.0.0/16", "192.168.0.0/22", "192.168.100.0/24", "192.168.122.0/24",
                 "172.16.0.0/14", "10.8.0.0/16")
]  # fmt: skip


def overlaps(addresses: Mapping[str, list[IPv4Interface]]) -> Iterator[str]:
    """A sentence for each pair of interfaces whose networks overlap."""
    networks = [(name, one) for name, own in addresses.items() for one in own]
    for (a, one), (b, other) in combinations(networks, 2):
        if a != b and one.network.overlaps(other.network):
            yield f"{b} ({other}) overlaps {a} ({one}): packets to one can leave by the other"


def free_networks(addresses: Mapping[str, list[IPv4Interface]], count: int) -> list[IPv4Network]:
    """Private networks (RFC 1918) of 254 machines that no interface of this machine touches, and
    that others seldom choose."""
    taken = [one.network for own in addresses.values() for one in own] + _CROWDED
    found: list[IPv4Network] = []
    for block in _PRIVATE:
        candidates = block.subnets(new_prefix=24)
        spread = (net for n, net in enumerate(candidates) if n % 97 == 61)
        free = (net for net in spread if not any(net.overlaps(other) for other in taken))
        found += [net for _, net in zip(range(count - len(found)), free, strict=False)]
    return found
