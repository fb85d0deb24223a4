"""A file that a client delivers over TFTP: its socket, its place on the disk, its state machine."""

from __future__ import annotations

import asyncio
import errno
import socket
from collections.abc import Callable, Iterable

from daskel.core.history.aborts import aborted
from daskel.core.history.events import FileReceived, Who
from daskel.core.reader import MalformedError
from daskel.core.tftp.packet import ErrorCode, Request, parse
from daskel.core.tftp.reception import Output, Reception, Write
from daskel.core.tftp.transfer import MAXIMUM_BLOCK, State
from daskel.service.shared import Moving, Shared
from daskel.system.uploads import PartialFile

_CODES = {
    errno.EEXIST: ErrorCode.EXISTS,
    errno.EDQUOT: ErrorCode.FULL,
    errno.ENOSPC: ErrorCode.FULL,
    errno.EXDEV: ErrorCode.ACCESS,
    errno.EACCES: ErrorCode.ACCESS,
}


def code_of(error: OSError) -> ErrorCode:
    """The error number of TFTP for an error of the disk."""
    return _CODES.get(error.errno or 0, ErrorCode.UNDEFINED)


def reason_of(error: OSError) -> str:
    """An error of the disk, in words for a client."""
    return (error.strerror or "it cannot be written").lower()


class Receiving:
    """`ended` is told when the socket is closed, `heard` when something came."""

    def __init__(  # noqa: PLR0913 - all that it stands on, by name
        self, shared: Shared, who: Who, path: str, part: PartialFile, sock: socket.socket,
        reception: Reception, request: Request, ended: Callable[[], None],
        heard: Callable[[], None],
    ) -> None:  # fmt: skip
        self._shared, self._who, self._path, self._part = shared, who, path, part
        self._sock, self._reception, self._request = sock, reception, request
        self._heard = heard
        self._ended, self._began = ended, shared.clock.monotonic()

    @property
    def moving(self) -> Moving:
        """How far it is."""
        return Moving(self._who, self._path, self._reception.size, 0)

    def is_answer_to(self, request: Request) -> bool:
        """`request` may be the one that began this, sent again."""
        return request == self._request and not self._reception.begun

    def start(self) -> None:
        """Answer the request."""
        asyncio.get_running_loop().add_reader(self._sock, self._receive)
        self._do(self._reception.start(self._shared.clock.monotonic()))

    def tick(self, now: float) -> None:
        """What is late at `now` (seconds, monotonic) is asked for again."""
        if now >= self._reception.deadline:
            if self._reception.state is State.DONE:
                self.close()
            else:
                self._do(self._reception.tick(now))

    def close(self) -> None:
        """Close socket and file; one that is not whole is removed."""
        if self._sock.fileno() < 0:
            return
        asyncio.get_running_loop().remove_reader(self._sock)
        self._sock.close()
        self._part.close()
        self._ended()

    def _receive(self) -> None:
        try:
            packet = parse(self._sock.recv(MAXIMUM_BLOCK + 4))
            self._heard()
        except BlockingIOError:
            return None
        except MalformedError as error:
            return self._shared.malformed("tftp", str(error))
        except OSError:  # the client's port is closed: it has heard enough, or has gone
            if self._reception.state is State.DONE:
                return self.close()
            self._reception.end("the client closed its port", ErrorCode.UNDEFINED)
            return self._do([])
        return self._do(self._reception.receive(packet, self._shared.clock.monotonic()))

    def _do(self, outputs: Iterable[Output]) -> None:
        for output in outputs:
            if not isinstance(output, Write):
                self._send(output)
                continue
            try:
                self._write(output)
            except OSError as error:
                self._send(self._reception.end(reason_of(error), code_of(error)))
                break
        if self._reception.state is State.FAILED:
            failure, got = self._reception.failure, self._reception.size
            self._shared.emit(aborted(self._who, self._path, failure, got))
            self.close()

    def _write(self, output: Write) -> None:
        self._part.write(output.data)
        if output.last:
            self._part.finish()
            seconds = self._shared.clock.monotonic() - self._began
            self._shared.emit(FileReceived(self._who, self._path, self._reception.size, seconds))

    def _send(self, packet: Output) -> None:
        assert not isinstance(packet, Write)
        try:
            self._sock.send(packet.serialise())
        except OSError:
            return  # the clock sends it again
