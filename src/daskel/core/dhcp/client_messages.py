"""What real firmware and systems send by DHCP, as it was seen on the wire: the only place where
Daskel makes such messages, for practice, for looking at a wire, and for what it works out."""

from __future__ import annotations

from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import BROADCAST_FLAG, NOWHERE, MessageType, Packet
from daskel.core.dhcp.pxe import NOT_TOLD, SCRIPT, Firmware, architecture_name
from daskel.core.values import mac_text

_BIOS_ASKS = bytes((1, 3, 6, 7, 12, 15, 17, 26, 43, 60, 66, 67, 119, 128, 129, 130, 131, 132))
_UEFI_ASKS = bytes(
    (1, 2, 3, 4, 5, 6, 12, 13, 15, 17, 18, 22, 23, 28, 40, 41, 42, 43, 50, 51, 54, 58, 59, 60,
     66, 67, 97, 128, 129, 130, 131, 132, 133, 134, 135)
)  # fmt: skip
_SYSTEM_ASKS = bytes((1, 3, 6, 12, 15, 17, 28, 42))


@dataclass(frozen=True, slots=True)
class Face:
    """How one kind of DHCP client presents itself."""

    vendor_class: str
    asks: bytes  # option 55
    block_size: int | None = 512  # bytes, TFTP; None: asks for no options at all
    architecture: int | None = None
    flags: int = 0
    size_first: bool = False  # asks TFTP for the size alone before it fetches
    window: int | None = None  # blocks, TFTP
    by_port: bool = False  # goes to port 4011 where option 60 comes without option 43
    waits: tuple[float, ...] = (1.0, 2.0, 4.0, 8.0)  # seconds for an answer, each time it asks
    name: str = ""
    user_class: str = ""  # option 77 (RFC 3004)
    file: bytes = b""  # in the header: the file that it wants
    size_asked: bool = True  # it asks TFTP for the size, with a transfer
    client_id: int | None = None  # first byte of option 61, the hardware address behind it

    @classmethod
    def of(cls, firmware: Firmware) -> Face:
        """How a firmware that Daskel has a boot loader for presents itself."""
        return FACES[firmware.value]

    @classmethod
    def of_architecture(cls, number: int) -> Face:
        """The firmware of a processor architecture type (RFC 5970 3.3), also of one never seen."""
        if number == NOT_TOLD:
            return FACES[UBOOT]
        known = next((face for face in FACES.values() if face.architecture == number), None)
        http = architecture_name(number).endswith("-http")
        return known or _uefi(
            architecture_name(number), number, "HTTPClient" if http else "PXEClient"
        )

    def presented(self, vendor_class: str | None, user_class: str | None) -> Face:
        """The same with other classes, where they are given."""
        return replace(
            self, vendor_class=vendor_class or self.vendor_class, user_class=user_class or ""
        )

    @property
    def over_http(self) -> bool:
        """It loads its boot file by HTTP (vendor class HTTPClient, UEFI 2.5)."""
        return self.vendor_class.startswith("HTTPClient")


def _uefi(name: str, architecture: int, protocol: str = "PXEClient") -> Face:
    vendor_class = f"{protocol}:Arch:{architecture:05}:UNDI:003000"
    return Face(
        vendor_class, _UEFI_ASKS, 1468, architecture, BROADCAST_FLAG, size_first=True, window=4,
        by_port=True, waits=(1.0, 3.0, 6.0), name=name,
    )  # fmt: skip


LOOK = 0x61085000  # the number of a server's own question who else answers on its wire


def look_asks_as(hardware: bytes) -> bytes:
    """The hardware address with which Daskel asks who answers on a wire, on the interface with the
    address `hardware`: no real machine's, and the same every time."""
    return bytes((hardware[0] | 2, *hardware[1:5], hardware[5] ^ 0x80))


BOARD, UBOOT = "board", Firmware.UBOOT.value
FACES = {
    face.name: face
    for face in (
        Face("PXEClient:Arch:00000:UNDI:002001", _BIOS_ASKS, 1432, 0, name="bios"),
        _uefi("uefi-x64", 7),
        _uefi("uefi-x64-http", 16, "HTTPClient"),
        _uefi("uefi-x86", 6),
        _uefi("uefi-x86-http", 15, "HTTPClient"),
        _uefi("uefi-arm64", 11),
        _uefi("uefi-arm64-http", 19, "HTTPClient"),
        _uefi("uefi-arm", 10),
        _uefi("uefi-arm-http", 18, "HTTPClient"),
        Face(  # asks for its script by its own name, and again as PXEClient when that fails
            "U-Boot.armv8",
            bytes((1, 3, 6, 12, 17)),
            1468,
            22,
            name=UBOOT,
            file=SCRIPT.encode(),
            size_asked=False,
        ),
        Face("", bytes((1, 3, 6, 12, 66, 67)), None, name=BOARD),  # reads text files by its MAC
    )
}
LOADER = Face("", b"", 1024)  # GRUB keeps the firmware's address, and asks TFTP alone
SYSTEM = Face("udhcp 1.35.0", _SYSTEM_ASKS, client_id=1)


def discover(face: Face, mac: str, xid: int) -> Packet:
    """A DHCPDISCOVER (RFC 2131 4.4.1); `xid` is its transaction's number."""
    return _message(face, mac, xid, MessageType.DISCOVER, {})


def request(face: Face, offer: Packet) -> Packet:
    """The REQUEST that takes an offer (RFC 2131 4.3.2, selecting)."""
    chosen: dict[int, bytes] = {
        Code.SERVER_ID: offer.options.get(Code.SERVER_ID, b""),
        Code.REQUESTED_ADDRESS: offer.yiaddr.packed,
    }
    return _message(face, mac_text(offer.chaddr), offer.xid, MessageType.REQUEST, chosen)


def renewal(face: Face, mac: str, xid: int, address: IPv4Address) -> Packet:
    """The REQUEST of a client that has an address and wants to keep it."""
    return _message(face, mac, xid, MessageType.REQUEST, {}, ciaddr=address)


def _message(
    face: Face,
    mac: str,
    xid: int,
    kind: MessageType,
    more: dict[int, bytes],
    ciaddr: IPv4Address = NOWHERE,
) -> Packet:
    hardware = bytes.fromhex(mac.replace(":", ""))
    options: dict[int, bytes] = {Code.MESSAGE_TYPE: bytes((kind,)), **more}
    options[Code.PARAMETERS] = face.asks
    options[Code.MAXIMUM_SIZE] = (1472).to_bytes(2, "big")
    if face.vendor_class:
        options[Code.VENDOR_CLASS] = face.vendor_class.encode()
    if face.architecture is not None:
        options[Code.ARCHITECTURE] = face.architecture.to_bytes(2, "big")
        options[Code.INTERFACE] = bytes((1, 3, 0))
        options[Code.MACHINE_ID] = bytes(17)
    if face.user_class:
        name = face.user_class.encode()
        options[Code.USER_CLASS] = bytes((len(name),)) + name
    if face.client_id is not None:
        options[Code.CLIENT_ID] = bytes((face.client_id,)) + hardware
    return Packet(
        1, xid, hardware.ljust(16, b"\0"), options, flags=face.flags, ciaddr=ciaddr, file=face.file
    )
