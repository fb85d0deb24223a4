"""File handles that only this server can make: export, keyed digest, and what finds the file.

A client can hand in any bytes as a handle; the digest shows that this server gave it out, and for
which export (BLAKE2s with a key, RFC 7693).
"""

from __future__ import annotations

from hashlib import blake2b, blake2s

from daskel.core.nfs.nfs3 import HANDLE_LIMIT, NfsError, Status

EXPORT_SIZE, _DIGEST = 8, 8  # bytes
BODY_LIMIT = HANDLE_LIMIT - EXPORT_SIZE - _DIGEST


def export_number(name: str) -> bytes:
    """Identifies an export in handles, and as its fsid; follows from its name."""
    return blake2b(name.encode(), digest_size=EXPORT_SIZE).digest()


def make_handle(key: bytes, export: bytes, body: bytes) -> bytes:
    """`body` is what the file system finds the file by, BODY_LIMIT bytes at most."""
    return b"".join((export, blake2s(export + body, key=key, digest_size=_DIGEST).digest(), body))


def export_of(handle: bytes) -> bytes:
    """The export that a handle from the network names. Raises NfsError."""
    if not EXPORT_SIZE + _DIGEST < len(handle) <= HANDLE_LIMIT:
        raise NfsError(Status.BADHANDLE)
    return handle[:EXPORT_SIZE]


def body_of(key: bytes, handle: bytes) -> bytes:
    """What finds the file. Raises NfsError when this server did not make the handle."""
    export, body = export_of(handle), handle[EXPORT_SIZE + _DIGEST :]
    if make_handle(key, export, body) != handle:
        raise NfsError(Status.BADHANDLE)
    return body
