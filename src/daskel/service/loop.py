"""The event loop of the services: uvloop where it is installed, with files sent by the kernel."""

from __future__ import annotations

import asyncio
import os
from collections.abc import Coroutine
from typing import IO, Any

try:
    import uvloop
except ImportError:  # no build of it for this processor
    uvloop = None  # type: ignore[assignment]

_TOGETHER = 1 << 20  # bytes until others have their turn
_LOOK_AGAIN = 1.0  # seconds: whether the connection was ended by somebody else


def run(work: Coroutine[Any, Any, Any]) -> Any:
    """Run to the end in the services' event loop, as asyncio.run does."""
    if uvloop is None:
        return asyncio.run(work)
    with asyncio.Runner(loop_factory=_Loop) as runner:
        return runner.run(work)


class _Loop(uvloop.Loop if uvloop else asyncio.SelectorEventLoop):  # type: ignore[misc]
    async def sendfile(
        self, transport: Any, file: IO[bytes], offset: int = 0, count: int | None = None,
        *, fallback: bool = True,  # noqa: ARG002
    ) -> int:  # fmt: skip
        """As the standard library's; uvloop has none. Raises OSError."""
        if transport.get_extra_info("sslcontext"):
            raise NotImplementedError("what is encrypted passes through this process")
        pause = 0.0
        while transport.get_write_buffer_size() and not transport.is_closing():
            await asyncio.sleep(pause)  # what was written before goes first
            pause = min(pause + 0.001, 0.05)
        sock = os.dup(transport.get_extra_info("socket").fileno())
        left = os.fstat(file.fileno()).st_size - offset if count is None else count
        sent = 0
        try:
            while sent < left:
                if transport.is_closing():
                    raise ConnectionResetError("the connection was closed")
                most = min(left - sent, _TOGETHER)
                try:
                    done = os.sendfile(sock, file.fileno(), offset + sent, most)
                except BlockingIOError:
                    await self._writable(sock)
                    continue
                if not done:
                    break  # the file has become shorter
                sent += done
                await asyncio.sleep(0)
        finally:
            os.close(sock)
        return sent

    async def _writable(self, sock: int) -> None:
        ready = self.create_future()
        self.add_writer(sock, lambda: ready.done() or ready.set_result(None))
        try:
            await asyncio.wait([ready], timeout=_LOOK_AGAIN)
        finally:
            self.remove_writer(sock)
