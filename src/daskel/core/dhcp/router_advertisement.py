"""Router advertisements of a machine that is no router (RFC 4861 4.1, 4.2).

Network ROMs of BIOS machines ask for IPv6 routers before they ask for their boot file, and wait
16 s when nobody answers. The answer says: nothing here to use, no address to be had, go on.
"""

from __future__ import annotations

SOLICITATION, ADVERTISEMENT = 133, 134  # types of ICMPv6 messages
# Hop limit unspecified, no flags, a lifetime of 0 (not a default router), both timers unspecified;
# the kernel fills in the checksum.
NO_ROUTER = bytes((ADVERTISEMENT, 0)) + bytes(14)


def is_solicitation(message: bytes) -> bool:
    """Whether an ICMPv6 message asks for routers (RFC 4861 4.1)."""
    return len(message) >= 8 and message[0] == SOLICITATION and message[1] == 0
