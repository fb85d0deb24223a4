"""Writes archives in the format newc, which Linux unpacks as an initrd (Documentation/
driver-api/early-userspace/buffer-format.rst)."""

from __future__ import annotations

from collections.abc import Mapping

_FILE, _FOLDER = 0o100000, 0o040000


def archive(folders: tuple[str, ...], files: Mapping[str, tuple[int, bytes]]) -> bytes:
    """`files`: mode and content by path. The same input is the same bytes."""
    entries = [_entry(path, _FOLDER | 0o755, b"") for path in folders]
    entries += [_entry(path, _FILE | mode, data) for path, (mode, data) in files.items()]
    return b"".join([*entries, _entry("TRAILER!!!", 0, b"")])


def _entry(name: str, mode: int, data: bytes) -> bytes:
    numbers = (0, mode, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(name.encode()) + 1, 0)
    head = b"070701" + b"".join(b"%08x" % number for number in numbers) + name.encode() + b"\0"
    return head + bytes(-len(head) % 4) + data + bytes(-len(data) % 4)
