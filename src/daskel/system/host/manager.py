"""Tells the service manager how the service is, where one has started it (sd_notify(3))."""

from __future__ import annotations

import os
import socket
from contextlib import suppress


def notify(*states: str) -> None:
    """Such as `READY=1`. Nothing happens without a service manager."""
    path = os.environ.get("NOTIFY_SOCKET", "")
    if not path:
        return
    address = "\0" + path[1:] if path.startswith("@") else path
    with suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as sock:
        sock.sendto("\n".join(states).encode(), address)
