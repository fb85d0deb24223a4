"""Who holds a port."""

from __future__ import annotations

import os
import socket

from daskel.system.host.ports import holder


def test_the_holder_of_a_port_is_named() -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.bind(("127.0.0.1", 0))
        found = holder("udp", sock.getsockname()[1])
        assert found and found.pid == os.getpid() and str(os.getpid()) in str(found)
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        assert holder("tcp", port) and holder("udp", port) is None
