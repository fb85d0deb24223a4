"""TFTP's blocks as datagrams: a file is read once for all who fetch it, each block behind its
header, and many leave with one system call: the kernel cuts what it is given (UDP_SEGMENT, udp(7)).
"""

from __future__ import annotations

import errno
import logging
import mmap
import os
import socket
import struct
from collections import OrderedDict
from functools import lru_cache
from weakref import WeakSet

from daskel.core.tftp.packet import data_header
from daskel.core.tftp.transfer import Blocks
from daskel.service.files.opened import Opened

_HEADER = 4  # bytes: DATA and the block's number
_UDP_SEGMENT = 103
_MOST_SEGMENTS, _LARGEST = 128, 65507  # datagrams, and bytes of one call
_NOT_HERE = (errno.EIO, errno.EINVAL, errno.ENOPROTOOPT, errno.EOPNOTSUPP, errno.EMSGSIZE)
TOGETHER = 64  # blocks that are read at once
_LEAST_CUT = 516  # bytes: options and errors are smaller, and must not be cut
_MOST_KEPT = 256 << 20  # bytes of files that are ready to send
_NO_CUT = "this kernel does not cut datagrams: to send files takes more of the processor"
_log = logging.getLogger(__name__)


def most_at_once(size: int) -> int:
    """Bytes of whole datagrams of `size` bytes that one call may send."""
    return min(_MOST_SEGMENTS, _LARGEST // size) * size


class Sender:
    """How blocks leave this machine: learned once for all transfers."""

    def __init__(self) -> None:
        self.cuts = True

    def send(self, sock: socket.socket, data: memoryview, size: int) -> None:
        """Datagrams of `size` bytes, the last one perhaps shorter. Raises OSError."""
        if len(data) <= size:
            sock.send(data)
            return
        most = most_at_once(size) if self.cuts else size
        for at in range(0, len(data), most):
            piece = data[at : at + most]
            if len(piece) <= size:
                sock.send(piece)
            else:
                self._send_cut(sock, piece, size)

    def always_cut(self, sock: socket.socket, size: int) -> bool:
        """Whether the kernel cuts all that is sent from now on into datagrams of `size` bytes: a
        plain `send` of up to `most_at_once` bytes is enough then."""
        if not self.cuts or size < _LEAST_CUT:
            return False
        try:
            sock.setsockopt(socket.SOL_UDP, _UDP_SEGMENT, size)
        except OSError:
            return False
        return True

    def refused(self, sock: socket.socket, error: OSError) -> None:
        """It sent nothing; perhaps this machine cannot cut, and is not to be asked again."""
        if error.errno in _NOT_HERE and self.cuts:
            self.cuts = False
            _log.warning(_NO_CUT)
        if not self.cuts:
            sock.setsockopt(socket.SOL_UDP, _UDP_SEGMENT, 0)

    def _send_cut(self, sock: socket.socket, data: memoryview, size: int) -> None:
        try:
            sock.sendmsg((data,), (_cut_to(size),))
        except OSError as error:
            if error.errno not in _NOT_HERE:
                raise
            self.cuts = False
            _log.warning(_NO_CUT)
            self.send(sock, data, size)


@lru_cache
def _cut_to(size: int) -> tuple[int, int, bytes]:
    return socket.SOL_UDP, _UDP_SEGMENT, struct.pack("=H", size)


class Image:
    """A whole file as datagrams one behind the other; read when somebody needs it. `whole` is all
    of them, `ready` has a 1 for every `TOGETHER` of them that have been read."""

    def __init__(self, size: int, block: int) -> None:
        self.size, self._block = _HEADER + block, block  # bytes of a datagram, and of its payload
        self._file_size, self._count = size, size // block + 1
        self.bytes = size + self._count * _HEADER
        self.whole = memoryview(mmap.mmap(-1, self.bytes))
        self.ready = bytearray(-(-self._count // TOGETHER))

    def datagrams(self, blocks: Blocks, opened: Opened) -> memoryview:
        """Raises EOFError when the file has become shorter."""
        before = blocks.first - 1
        begin = before * self.size
        if blocks.amount == 1 and self.ready[before // TOGETHER]:  # of clients without windows
            return self.whole[begin : begin + blocks.length + _HEADER]
        for part in range(before // TOGETHER, (before + blocks.amount - 1) // TOGETHER + 1):
            if not self.ready[part]:
                self._read(part, opened)
        return self.whole[begin : begin + blocks.length + blocks.amount * _HEADER]

    def _read(self, part: int, opened: Opened) -> None:
        first, last = part * TOGETHER, min((part + 1) * TOGETHER, self._count)
        pieces, wanted = [], 0
        for number in range(first, last):
            begin = number * self.size
            length = min(self._block, self._file_size - number * self._block)
            self.whole[begin : begin + _HEADER] = data_header(number + 1)
            pieces.append(self.whole[begin + _HEADER : begin + _HEADER + length])
            wanted += length
        if opened.read_into(pieces, first * self._block) < wanted:
            raise EOFError
        self.ready[part] = 1


class Window:
    """The same for what is not kept: one window of it at a time."""

    def __init__(self, block: int, window: int) -> None:
        self.size, self._block = _HEADER + block, block
        self._whole = memoryview(bytearray(self.size * window))

    def datagrams(self, blocks: Blocks, opened: Opened) -> memoryview:
        """Some of the blocks, each behind its header, as one piece."""
        pieces = []
        for n in range(blocks.amount):
            begin = n * self.size
            self._whole[begin : begin + _HEADER] = data_header(blocks.first + n)
            pieces.append(self._whole[begin + _HEADER : begin + self.size])
        if opened.read_into(pieces, blocks.offset) < blocks.length:
            raise EOFError
        return self._whole[: blocks.length + blocks.amount * _HEADER]


class Images:
    """The files that were fetched last, as long as there is room for them."""

    def __init__(self) -> None:
        self._kept: OrderedDict[tuple[object, ...], Image] = OrderedDict()
        self._used: WeakSet[Image] = WeakSet()  # also those that transfers alone still hold

    def of(self, opened: Opened, block: int, window: int) -> Image | Window:
        """The blocks of a file, kept when it is small enough."""
        if not opened.stored or opened.size > _MOST_KEPT // 2:
            return Window(block, window)
        status = os.fstat(opened.descriptor)
        times = status.st_mtime_ns, status.st_ctime_ns  # the second one cannot be set back
        key = (status.st_dev, status.st_ino, *times, opened.size, block)
        if key not in self._kept:
            image = Image(opened.size, block)
            while self._kept and self._size() + image.bytes > _MOST_KEPT:
                self._kept.popitem(last=False)
            if self._size() + image.bytes > _MOST_KEPT:  # transfers under way hold it all
                return Window(block, window)
            self._kept[key] = image
            self._used.add(image)
        self._kept.move_to_end(key)
        return self._kept[key]

    def _size(self) -> int:
        return sum(image.bytes for image in self._used)
