"""What real firmware sends by DHCPv6, as it was seen on the wire: for practice, and for what is
worked out."""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv6Address

from daskel.core.dhcp6.message import Code, Message, Type, granted, option

ALL = IPv6Address("ff02::1:2")  # relay agents and servers (RFC 8415 7.1)
_INTEL = 343  # the enterprise that defined PXE
_ELAPSED, _DNS, _PARAMETERS, _NETWORK_CARD = 8, 23, 60, 62
_ASKS = (Code.BOOT_FILE_URL, _PARAMETERS, _DNS, Code.VENDOR_CLASS)
_UNDI = bytes((1, 3, 0))


def _hardware(mac: str) -> bytes:
    return bytes.fromhex(mac.replace(":", ""))


def link_local(mac: str) -> IPv6Address:
    """The address that a machine makes of its hardware address (RFC 4291, appendix A)."""
    data = _hardware(mac)
    made = bytes((data[0] ^ 2,)) + data[1:3] + b"\xff\xfe" + data[3:]
    return IPv6Address(b"\xfe\x80" + bytes(6) + made)


def solicit(mac: str, architecture: int, vendor_class: str, xid: int = 1) -> bytes:
    """A firmware's first message (RFC 8415 16.1.1, RFC 5970 3)."""
    return _message(Type.SOLICIT, xid, mac, (architecture, vendor_class), [], None)


def request(mac: str, architecture: int, vendor_class: str, offer: Message, xid: int = 2) -> bytes:
    """Its answer to an ADVERTISE (RFC 8415 18.2.2)."""
    addresses = [] if offer.address is None else [offer.address]
    server = offer.options.get(Code.SERVER_ID)
    return _message(Type.REQUEST, xid, mac, (architecture, vendor_class), addresses, server)


def _message(
    kind: Type, xid: int, mac: str, firmware: tuple[int, str], addresses: Sequence[IPv6Address],
    server: bytes | None,
) -> bytes:  # fmt: skip
    number, vendor_class = firmware
    said = vendor_class.encode()
    options = [
        option(Code.CLIENT_ID, b"\0\3\0\1" + _hardware(mac)),
        *([] if server is None else [option(Code.SERVER_ID, server)]),
        option(_ELAPSED, bytes(2)),
        granted(int.from_bytes(_hardware(mac)[2:], "big"), [(a, 0) for a in addresses]),
        option(Code.PARAMETERS, b"".join(code.to_bytes(2, "big") for code in _ASKS)),
        option(_NETWORK_CARD, _UNDI),
        option(Code.ARCHITECTURE, number.to_bytes(2, "big")),
        option(
            Code.VENDOR_CLASS,
            _INTEL.to_bytes(4, "big") + len(said).to_bytes(2, "big") + said,
        ),
    ]
    return bytes((kind,)) + xid.to_bytes(3, "big") + b"".join(options)
