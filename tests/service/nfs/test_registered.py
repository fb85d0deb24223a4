"""Where another program has port 111: it is told where NFS and MOUNT are, and when they end."""

from __future__ import annotations

import signal
import socket
import subprocess
import sys
import threading
from pathlib import Path

import pytest

from daskel.cli.practice_server import free_base
from daskel.core.nfs.rpc import parse_call, success
from daskel.core.nfs.xdr import pack_u32
from tests.conftest import PATIENCE


class Mapper(threading.Thread):
    """The other program; it takes what it is told, or does not."""

    def __init__(self, base: int, takes: bool) -> None:
        super().__init__(daemon=True)
        self.base, self.takes = base, takes
        self.ports: dict[tuple[int, int, int], int] = {(100003, 3, 6): 9}  # left by somebody
        self.sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.sock.bind(("0.0.0.0", base + 111))

    def run(self) -> None:
        while True:
            data, peer = self.sock.recvfrom(4096)
            call = parse_call(data)
            program, version, protocol, port = (call.arguments.number(4) for _ in range(4))
            key = (program, version, protocol)
            done = self.takes
            if call.procedure == 2:
                done = self.ports.pop(key, None) is not None
            elif done and (done := key not in self.ports):
                self.ports[key] = port
            self.sock.sendto(success(call.xid, pack_u32(done)), peer)


@pytest.mark.parametrize("takes", [True, False])
def test_it_is_told(demo_folder: Path, takes: bool) -> None:
    base = free_base()
    mapper = Mapper(base, takes)
    mapper.start()
    program = Path(sys.executable).with_name("daskel")
    words = [program, "serve", "--loopback", str(base), "--site", demo_folder / "daskel.toml"]
    with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout
        said = []
        for line in process.stdout:
            said.append(line)
            if " ready " in line:
                break
        there = {(100003, 3, 6): base + 2049, (100005, 3, 6): base + 2049}
        assert mapper.ports == (there if takes else {})
        assert any("clients that ask there" in line for line in said) is not takes
        assert any("does not take program" in line for line in said) is not takes
        process.send_signal(signal.SIGTERM)
        process.wait(PATIENCE)
    assert mapper.ports == {}
