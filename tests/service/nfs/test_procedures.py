"""What is done about calls of NFS version 3, before anything is asked of a disk."""

from __future__ import annotations

import pytest

from daskel.core.nfs.nfs3 import Procedure
from daskel.core.nfs.rpc import Call, Credentials
from daskel.core.nfs.xdr import pack_opaque, pack_u32
from daskel.core.reader import MalformedError, Reader
from daskel.service.nfs.procedures import _PROCEDURES, carry_out
from daskel.system.nfs.export import Export


def test_what_is_left_behind_the_arguments_is_garbage() -> None:
    """Of every procedure, before anything is done."""

    def find(_: bytes) -> Export:
        raise AssertionError("it was carried out")

    handle, name = pack_opaque(b"h" * 32), pack_opaque(b"name")
    whole = {
        Procedure.SETATTR: handle + bytes(28), Procedure.LOOKUP: handle + name,
        Procedure.ACCESS: handle + pack_u32(1), Procedure.READ: handle + pack_u32(0, 0, 9),
        Procedure.WRITE: handle + pack_u32(0, 0, 1, 0) + pack_opaque(b"x"),
        Procedure.CREATE: handle + name + bytes(28),
        Procedure.MKDIR: handle + name + bytes(24),
        Procedure.SYMLINK: handle + name + bytes(24) + pack_opaque(b"to"),
        Procedure.MKNOD: handle + name + pack_u32(7) + bytes(24),
        Procedure.COMMIT: handle + bytes(12),
        Procedure.REMOVE: handle + name, Procedure.RMDIR: handle + name,
        Procedure.RENAME: handle + name + handle + name, Procedure.LINK: handle + handle + name,
        Procedure.READDIR: handle + bytes(16) + pack_u32(512),
        Procedure.READDIRPLUS: handle + bytes(16) + pack_u32(512, 512),
    }  # fmt: skip
    for procedure in _PROCEDURES:
        data = whole.get(Procedure(procedure), handle)
        credentials = Credentials()
        exact = Call(1, 100003, 3, procedure, credentials, Reader(data, "x"))
        with pytest.raises(AssertionError, match="carried out"):
            carry_out(exact, find, lambda _: None)
        more = Call(1, 100003, 3, procedure, credentials, Reader(data + bytes(4), "x"))
        with pytest.raises(MalformedError, match="4 bytes too many"):
            carry_out(more, find, lambda _: None)
