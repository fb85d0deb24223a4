"""What the initrd of an image is told on the kernel's command line, and what exports are called."""

from __future__ import annotations

BOOT = "boot=daskel"  # the script of an initrd of initramfs-tools that mounts the root
ROOT = "daskel.root"  # the URL of the image
DIGEST = "daskel.digest"  # SHA-256 that it must have
KEEP = "daskel.keep"  # the export that changes are kept on
SLATE = "daskel.slate"
SIZE = "daskel.size"  # bytes that may be changed in memory
MULTICAST = "daskel.multicast"  # the group that the image is sent to
TELL = "daskel.tell"  # where it is told how far it is
PRIVATE = "daskel.private"  # server, port, own address and the server's in the tunnel
KEY = "daskel.key"  # where its key may be
CONTACT = "daskel.contact"  # where it says that it has none, and what keeps the tunnel from working
ADDRESS, ROUTER = "daskel.address", "daskel.router"


def image_name(root: str, version: int) -> str:
    """The export of a version's image."""
    return f"{root}@{version}"


def disk_name(root: str, version: int, client: str) -> str:
    """The export of what one client has changed on a version."""
    return f"{root}@{version}/{client}"


def asked_for(name: str) -> tuple[str, int, str] | None:
    """Root, version and client of an export's name from the network, the client empty for the
    image itself; None for any other name."""
    start, _, client = name.rpartition("/") if "/" in name.rpartition("@")[2] else (name, "", "")
    root, at, number = start.rpartition("@")
    if not (root and at and number.isascii() and number.isdigit() and len(number) < 10):
        return None
    return root, int(number), client
