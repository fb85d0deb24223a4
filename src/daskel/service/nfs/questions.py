"""Questions to one of the NFS processes, each with its answer; and the key that they share."""

from __future__ import annotations

import asyncio
import logging
import os
import secrets
import socket
from pathlib import Path

from daskel.service.nfs.channel import send
from daskel.service.nfs.messages import Failed, Message
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.kept import sync_folder

_KEY_SIZE = 32  # bytes
_log = logging.getLogger(__name__)


class Channel:
    """Questions to one of the processes, each with its answer."""

    def __init__(self, sock: socket.socket) -> None:
        self.sock = sock
        self._number = 0
        self._asked: dict[int, asyncio.Future[Message]] = {}

    def tell(self, message: Message, number: int = 0, descriptors: tuple[int, ...] = ()) -> None:
        """An answer has the `number` of its question."""
        try:
            send(self.sock, message, number, descriptors)
        except BlockingIOError:
            _log.warning("an NFS process does not keep up")
        except OSError:
            return  # it has ended, which is noticed where it is listened to

    async def ask(self, question: Message) -> Message:
        """Send a question, and wait for its answer."""
        self._number += 1
        if self.sock.fileno() < 0:
            return Failed("its process has ended; try again")
        waiting = asyncio.get_running_loop().create_future()
        self._asked[self._number] = waiting
        self.tell(question, self._number)
        answer: Message = await waiting
        return answer

    def end(self) -> None:
        """The process has ended: what it was asked has no answer."""
        for waiting in self._asked.values():
            if not waiting.done():
                waiting.set_result(Failed("its process has ended; try again"))
        self._asked.clear()

    def answered(self, number: int, message: Message) -> bool:
        """Whether it is the answer to one of our questions."""
        waiting = self._asked.pop(number, None)
        if waiting and not waiting.done():
            waiting.set_result(message)
        return waiting is not None


def handle_key(path: Path) -> bytes:
    """What handles are made with; the same after a restart. Raises MissingRequirementError, also
    when there is one that is damaged: clients that run would lose their roots with another."""
    try:
        if path.exists():
            key = bytes.fromhex(path.read_text())
            if len(key) != _KEY_SIZE:
                raise ValueError(f"it is damaged: {len(key)} bytes of {_KEY_SIZE}")
            return key
        key = secrets.token_bytes(_KEY_SIZE)
        part = path.with_name(f".{path.name}")
        descriptor = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(descriptor, "w") as file:
            file.write(key.hex())
            file.flush()
            os.fsync(file.fileno())
        part.replace(path)
        sync_folder(path.parent)
    except (OSError, ValueError) as error:
        raise MissingRequirementError(
            f"{path} cannot be used ({error})",
            "restore it; without it (remove it), clients that run must boot anew",
        ) from None
    return key
