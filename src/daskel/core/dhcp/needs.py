"""What each firmware needs of the replies to it, beyond an address: a table, as it was measured
with real firmware.

The table says what makes a firmware fail, not what a reply should look like: most of it has
several ways to be told the same.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from enum import Enum

from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import NOWHERE, Packet, read_area
from daskel.core.dhcp.pxe import HTTP_CLASS, PXE_CLASS, BootRequest, is_uefi
from daskel.core.reader import MalformedError

_DISCOVERY_CONTROL, _THIS_FILE = 6, 8  # PXE specification 2.1, table 2-1


class Need(Enum):
    """What is missing from all replies that a machine got."""

    BOOT_FILE = "boot file"
    URL = "URL"  # of a machine that boots by HTTP
    HTTP_CLASS = "HTTPClient in option 60"
    PXE_PORT = "answer on port 4011"  # asked for by option 60 without option 43
    NEXT_SERVER = "next server"
    HEADER_SERVER = "next server in the header"  # from where some boot loaders alone take it


def boot_file_of(reply: Packet) -> bytes:
    """The boot file that a reply names, in its header or in option 67."""
    return reply.options.get(Code.BOOT_FILE, b"").rstrip(b"\0") or reply.file


def unmet(request: BootRequest, replies: Sequence[Packet]) -> Need | None:
    """What the firmware that sent `request` misses in its offers and acknowledgements; None when
    one of them has all, or nothing is known against it."""
    if not replies:
        return None
    for fits, wants in _TABLE:
        if fits(request):
            return wants(request, replies)
    return None


def _http(_: BootRequest, replies: Sequence[Packet]) -> Need | None:
    urls = [reply for reply in replies if b"://" in boot_file_of(reply)]
    if not urls:
        return Need.URL if any(map(boot_file_of, replies)) else Need.BOOT_FILE
    classes = (r.options.get(Code.VENDOR_CLASS, b"") for r in urls)
    return None if any(c.startswith(HTTP_CLASS) for c in classes) else Need.HTTP_CLASS


def _script(_: BootRequest, replies: Sequence[Packet]) -> Need | None:
    """U-Boot has names of files of its own, and needs to know where."""
    return None if any(reply.siaddr != NOWHERE for reply in replies) else Need.NEXT_SERVER


def _pxe(request: BootRequest, replies: Sequence[Packet]) -> Need | None:
    if any(boot_file_of(reply) and not _by_port(request, reply) for reply in replies):
        return None
    if any(_says_pxe(reply) for reply in replies):
        return Need.PXE_PORT
    return Need.BOOT_FILE


def _by_port(request: BootRequest, reply: Packet) -> bool:
    """UEFI firmware that reads `PXEClient`, and not that it should take the file of this reply."""
    if not is_uefi(request.architecture) or not _says_pxe(reply):
        return False
    return not _control(reply.options.get(Code.VENDOR_SPECIFIC, b"")) & _THIS_FILE


def _says_pxe(reply: Packet) -> bool:
    return reply.options.get(Code.VENDOR_CLASS, b"").startswith(PXE_CLASS)


def _control(options: bytes) -> int:
    """PXE's discovery control inside option 43; 0 where it is not there."""
    inside: dict[int, bytes] = {}
    with suppress(MalformedError):  # what stands before the damage counts
        read_area(options, "option 43", inside)
    control = inside.get(_DISCOVERY_CONTROL, b"")
    return control[0] if len(control) == 1 else 0


_TABLE: tuple[
    tuple[Callable[[BootRequest], bool], Callable[[BootRequest, Sequence[Packet]], Need | None]],
    ...,
] = (
    (lambda request: request.over_http, _http),
    (lambda request: request.script, _script),
    (lambda _: True, _pxe),
)
