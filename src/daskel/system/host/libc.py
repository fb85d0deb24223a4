"""The C library's calls and the kernel's that Python has no function for; each raises OSError.

mount(2), umount2(2), open_tree(2), mount_setattr(2), unshare(2), prctl(2), capset(2), openat2(2),
renameat2(2), fallocate(2), name_to_handle_at(2), open_by_handle_at(2); setfsuid(2),
setfsgid(2) and setgroups(2) of one thread alone, which the C library would change for all.
"""

from __future__ import annotations

import ctypes
import errno
import os
import platform
import struct
from collections.abc import Collection
from typing import NoReturn

NEW_NAMESPACE = 0x00020000
PRIVATE, RECURSIVE, BIND = 1 << 18, 0x4000, 0x1000
READ_ONLY, NO_SET_ID, NO_DEVICES, REMOUNT = 1, 2, 4, 32  # MS_RDONLY, MS_NOSUID, MS_NODEV
PR_SET_PDEATHSIG, PR_SET_KEEPCAPS, PR_CAPBSET_DROP, PR_SET_NO_NEW_PRIVS = 1, 8, 24, 38
RESOLVE_NO_MAGIC_LINKS, RESOLVE_NO_SYMLINKS, RESOLVE_BENEATH = 0x02, 0x04, 0x08
HANDLE_HEAD = struct.Struct("=Ii")  # of struct file_handle: bytes of the handle, its type
_DETACH, _EMPTY_PATH = 2, 0x1000
_CAPABILITY_VERSION = 0x20080522
_EXCHANGE, _HERE = 2, -100  # RENAME_EXCHANGE, AT_FDCWD
_KEEP_SIZE, _PUNCH_HOLE = 1, 2  # FALLOC_FL_ flags
_CLONE_TREE, _AT_EMPTY = 1, 0x1000  # OPEN_TREE_CLONE, AT_EMPTY_PATH
_OPEN_TREE, _MOUNT_SETATTR = 428, 442  # the same numbers on every architecture
_OPENAT2 = 437  # the same number on every architecture
_OF_THREADS = {  # setfsuid, setfsgid, setgroups
    "x86_64": (122, 123, 116),
    "aarch64": (151, 152, 159),
    "riscv64": (151, 152, 159),
}
_libc = ctypes.CDLL(None, use_errno=True)


def _fail(what: str | bytes) -> NoReturn:
    number = ctypes.get_errno()
    raise OSError(number, os.strerror(number), what)


def unshare(flags: int) -> None:
    """Namespaces of this process's own, by CLONE_ flags."""
    if _libc.unshare(flags) != 0:
        _fail("unshare")


def mount(source: str, target: str, kind: str, flags: int, options: str) -> None:
    """mount(2); `options` are the file system's own."""
    words = [os.fsencode(word) for word in (source, target, kind)]
    data = os.fsencode(options)
    if len(data) > 4095:
        raise OSError(errno.ENAMETOOLONG, "the names of the folders are too long for a mount")
    if _libc.mount(*words, ctypes.c_ulong(flags), data) != 0:
        _fail(target)


def unmount(target: str) -> None:
    """At once for all who come, even when somebody is in it."""
    if _libc.umount2(os.fsencode(target), _DETACH) != 0:
        _fail(target)


def own_mount(folder: str, attributes: int) -> int:
    """A descriptor of a mount of just this tree, which is nowhere mounted and ends with it:
    open_tree(2), with MOUNT_ATTR_ flags set by mount_setattr(2). What is opened by it never leads
    above the folder."""
    flags = _CLONE_TREE | os.O_CLOEXEC
    descriptor = int(_libc.syscall(_OPEN_TREE, _HERE, os.fsencode(folder), flags))
    if descriptor < 0:
        _fail(folder)
    changed = struct.pack("=4Q", attributes, 0, 0, 0)
    if _libc.syscall(_MOUNT_SETATTR, descriptor, b"", _AT_EMPTY, changed, len(changed)) < 0:
        os.close(descriptor)
        _fail(folder)
    return descriptor


def prctl(option: int, value: int) -> bool:
    """Whether it was done."""
    return bool(_libc.prctl(option, value, 0, 0, 0) == 0)


def set_capabilities(mask: int) -> None:
    """Those of the mask, effective and permitted; none is inherited."""
    low, high = mask & 0xFFFFFFFF, mask >> 32
    data = struct.pack("=6I", low, low, 0, high, high, 0)
    if _libc.capset(struct.pack("=II", _CAPABILITY_VERSION, 0), data) != 0:
        _fail("capset")


def openat2(folder: int, path: bytes, flags: int, resolve: int) -> int:
    """A descriptor for `path` below the open directory `folder`."""
    how = struct.pack("=QQQ", flags | os.O_CLOEXEC, 0, resolve)
    result = int(_libc.syscall(_OPENAT2, folder, path, how, len(how)))
    if result < 0:
        _fail(path)
    return result


def punch_hole(descriptor: int, offset: int, length: int) -> None:
    """These bytes of a file are zero and take no room: fallocate(2)."""
    ranges = (ctypes.c_int64(offset), ctypes.c_int64(length))
    if _libc.fallocate64(descriptor, _PUNCH_HOLE | _KEEP_SIZE, *ranges) != 0:
        _fail("fallocate")


def exchange(one: str, other: str) -> None:
    """Each of two paths becomes the other, at once: renameat2(2) with RENAME_EXCHANGE."""
    if _libc.renameat2(_HERE, os.fsencode(one), _HERE, os.fsencode(other), _EXCHANGE) != 0:
        _fail(one)


def knows_thread_calls() -> bool:
    """Whether the numbers of the calls for one thread alone are known for this processor."""
    return platform.machine() in _OF_THREADS


def become(uid: int, gid: int, groups: Collection[int]) -> None:
    """What files belong to, and may be opened, for this thread alone."""
    setfsuid, setfsgid, setgroups = _OF_THREADS[platform.machine()]
    packed = struct.pack(f"={len(groups)}I", *groups)
    if uid == 0:  # groups can be set by root alone
        _libc.syscall(setfsuid, uid)
    if _libc.syscall(setgroups, len(groups), packed) != 0:
        _fail("setgroups")
    for number, wanted in ((setfsgid, gid), (setfsuid, uid)):  # neither says whether it was done
        _libc.syscall(number, wanted)
        if _libc.syscall(number, -1) & 0xFFFFFFFF != wanted:
            raise OSError(errno.EINVAL, "no such user or group")


class HandleReader:
    """Reads the kernel's file handles, of at most `limit` bytes, into one buffer."""

    def __init__(self, limit: int) -> None:
        self._limit = limit
        self._buffer = ctypes.create_string_buffer(HANDLE_HEAD.size + limit)
        self._mount = ctypes.c_int()
        self._mount_reference = ctypes.byref(self._mount)

    @property
    def mount(self) -> int:
        """The number of the mount that the handle read last is on."""
        return self._mount.value

    def read(self, directory: int, name: bytes) -> bytes:
        """The handle's type in one byte, and the handle; of the directory when there is no name."""
        buffer = self._buffer
        HANDLE_HEAD.pack_into(buffer, 0, self._limit, 0)
        flags = 0 if name else _EMPTY_PATH
        if _libc.name_to_handle_at(directory, name, buffer, self._mount_reference, flags) < 0:
            _fail(name)
        size, kind = HANDLE_HEAD.unpack_from(buffer)
        return bytes((kind,)) + buffer.raw[HANDLE_HEAD.size : HANDLE_HEAD.size + size]


def open_by_handle(top: int, body: bytes) -> int:
    """An O_PATH descriptor for what `HandleReader` read."""
    handle = HANDLE_HEAD.pack(len(body) - 1, body[0]) + body[1:]
    descriptor = int(_libc.open_by_handle_at(top, handle, os.O_PATH | os.O_CLOEXEC))
    if descriptor < 0:
        _fail(b"")
    return descriptor
