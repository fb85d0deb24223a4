"""NFS and MOUNT at another program's port mapper, where the other program has port 111."""

from __future__ import annotations

import itertools
import os
import socket
from collections.abc import Mapping
from contextlib import suppress

from daskel.core.nfs import portmap
from daskel.core.nfs.rpc import parse_reply, serialise_call
from daskel.core.reader import MalformedError

_PATIENCE = 2.0  # seconds
_NUMBERS = itertools.count(1)


class Registered:
    """Programs and versions with their ports, for as long as this is open.

    Raises OSError when that program does not answer, or does not take them.
    """

    def __init__(self, mapper: int, ports: Mapping[tuple[int, int], int]) -> None:
        self._mapper, self._ports = mapper, ports
        self.close()  # what a server left that was killed
        for (program, version), port in ports.items():
            if not self._ask(portmap.Procedure.SET, program, version, port):
                raise OSError(f"it does not take program {program}")

    def close(self) -> None:
        """Take NFS and MOUNT out again."""
        for program, version in self._ports:
            with suppress(OSError):
                self._ask(portmap.Procedure.UNSET, program, version, 0)

    def _ask(self, procedure: portmap.Procedure, program: int, version: int, port: int) -> bool:
        arguments = portmap.serialise_mapping(program, version, port)
        number = os.getpid() << 8 & 0xFFFFFF00 | next(_NUMBERS) & 0xFF
        call = serialise_call(number, portmap.PROGRAM, portmap.VERSION, procedure, arguments)
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            _bind_low(sock)
            sock.settimeout(_PATIENCE)
            sock.connect(("127.0.0.1", self._mapper))
            sock.send(call)
            try:
                answered, results = parse_reply(sock.recv(4096))
                return answered == number and bool(results.number(4))
            except MalformedError as error:
                raise OSError(str(error)) from None


def _bind_low(sock: socket.socket) -> None:
    """Port mappers trust callers with a port that only root can have."""
    for port in range(1023, 600, -1):
        try:
            return sock.bind(("127.0.0.1", port))
        except PermissionError:
            return None
        except OSError:
            continue
    return None
