"""NFS and MOUNT on one TCP port: calls in, the tree's answers out. Roots are read-only."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable, Mapping
from ipaddress import IPv4Address

from daskel.core.boot.arguments import export_path
from daskel.core.boot.identity import Who, roots_of
from daskel.core.boot.stages import Mounted, MountRefused
from daskel.core.nfs import mount, nfs3
from daskel.core.nfs.nfs3 import Access, Entry, NfsError, Procedure, Status, permitted
from daskel.core.nfs.rpc import Call, Records, Refusal, mark, parse_call, refuse, success
from daskel.core.nfs.xdr import pack_opaque, pack_u32
from daskel.core.reader import MalformedError
from daskel.service.shared import Shared
from daskel.service.sockets import tcp
from daskel.system.tree import Name, Tree, export_of

_WRITES = frozenset(
    (
        Procedure.SETATTR, Procedure.WRITE, Procedure.CREATE, Procedure.MKDIR, Procedure.SYMLINK,
        Procedure.MKNOD, Procedure.REMOVE, Procedure.RMDIR, Procedure.RENAME, Procedure.LINK,
        Procedure.COMMIT,
    )
)  # fmt: skip
_RECHECK = 1.0  # seconds that a connection's client is taken to be the same
_log = logging.getLogger(__name__)


class NfsService:
    """The site's roots on one server address."""

    def __init__(self, shared: Shared, server: IPv4Address) -> None:
        self._shared, self._server_address = shared, server
        self._sock = tcp(shared.wire.outside(server), shared.wire.ports.nfs)
        self._server: asyncio.Server | None = None
        self._connections: set[_Connection] = set()

    async def serve(self) -> None:
        loop = asyncio.get_running_loop()
        self._server = await loop.create_server(
            lambda: _Connection(self._shared, self._server_address, self._connections),
            sock=self._sock,
        )

    async def close(self) -> None:
        if self._server:
            self._server.close()
        else:
            self._sock.close()
        for connection in list(self._connections):
            connection.abort()


class _Connection(asyncio.Protocol):
    """One client's TCP connection."""

    def __init__(self, shared: Shared, server: IPv4Address, connections: set[_Connection]) -> None:
        self._shared, self._server, self._connections = shared, server, connections
        self._records = Records()
        self._transport: asyncio.Transport | None = None
        self._peer = ""
        self._roots: frozenset[str] = frozenset()
        self._who = Who()
        self._checked = float("-inf")

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self._transport = transport
        transport.set_write_buffer_limits(4 << 20)
        self._peer = transport.get_extra_info("peername")[0]
        self._connections.add(self)

    def connection_lost(self, exc: Exception | None) -> None:  # noqa: ARG002
        self._connections.discard(self)

    def abort(self) -> None:
        if self._transport:
            self._transport.abort()

    def pause_writing(self) -> None:
        """The client does not read its replies: take no more calls from it."""
        if self._transport:
            self._transport.pause_reading()

    def resume_writing(self) -> None:
        if self._transport:
            self._transport.resume_reading()

    def data_received(self, data: bytes) -> None:
        assert self._transport
        try:
            for record in self._records.feed(data):
                self._transport.write(mark(self._answer(record)))
        except MalformedError as error:
            self._shared.malformed("nfs", str(error))
            self._transport.abort()

    def _answer(self, record: bytes) -> bytes:
        call = parse_call(record)
        versions = {nfs3.PROGRAM: nfs3.VERSION, mount.PROGRAM: mount.VERSION}
        version = versions.get(call.program)
        if version is None:
            return refuse(call.xid, Refusal.PROGRAM_UNAVAILABLE)
        if call.version != version:
            return refuse(call.xid, Refusal.PROGRAM_MISMATCH, (version, version))
        handle = self._nfs if call.program == nfs3.PROGRAM else self._mount
        try:
            results = handle(call)
        except MalformedError as error:
            self._shared.malformed("nfs", str(error))
            return refuse(call.xid, Refusal.GARBAGE_ARGUMENTS)
        except Exception:
            _log.exception("a call of program %d failed", call.program)
            return refuse(call.xid, Refusal.SYSTEM_ERROR)
        if results is None:
            return refuse(call.xid, Refusal.PROCEDURE_UNAVAILABLE)
        return success(call.xid, results)

    def _identify(self) -> None:
        """Find out who is at the other end, and which root it may have."""
        now = asyncio.get_running_loop().time()
        if now - self._checked < _RECHECK:
            return
        self._checked = now
        segment, self._who = self._shared.caller(self._server, self._peer)
        self._roots = roots_of(self._shared.site, self._who, segment, self._shared.once.running)

    # --- MOUNT ---

    def _mount(self, call: Call) -> bytes | None:
        self._identify()
        if call.procedure == mount.Procedure.MOUNT:
            return self._mount_path(mount.parse_path(call.arguments))
        if call.procedure == mount.Procedure.EXPORT:
            return mount.exports(sorted(map(export_path, self._roots)))
        if call.procedure == mount.Procedure.DUMP:
            return pack_u32(0)
        known = call.procedure in list(mount.Procedure)
        return b"" if known else None  # NULL, UNMOUNT, UNMOUNT_ALL: nothing is kept

    def _mount_path(self, path: str) -> bytes:
        """The handle of the client's root, or of a directory in it."""
        asked = "/" + path.strip("/") + "/"
        root = next((r for r in self._shared.trees if asked.startswith(export_path(r) + "/")), None)
        reason, status = self._why_not(), mount.Status.NOT_FOUND
        if root is not None and root in self._roots:
            below = asked.removeprefix(export_path(root))
            try:
                handle = self._shared.trees[root].find(below.strip("/"))
            except NfsError:
                reason = f"there is no directory {below} in the root {root}"
            else:
                self._shared.emit(Mounted(self._who, root))
                return mount.mounted(handle)
        elif root is not None:
            status = mount.Status.ACCESS
        self._shared.emit(MountRefused(self._who, path, reason))
        return mount.refused(status)

    def _why_not(self) -> str:
        if self._who.name is None:
            return f"{self._who.address} is no client of the site"
        if not self._roots:
            return f"the loadout of {self._who.name} has no root"
        return f"the root of {self._who.name} is {', '.join(map(export_path, sorted(self._roots)))}"

    # --- NFS ---

    def _nfs(self, call: Call) -> bytes | None:
        if call.procedure not in list(Procedure):
            return None
        procedure = Procedure(call.procedure)
        if procedure is Procedure.NULL:
            return b""
        if procedure in _WRITES:
            return nfs3.failed(procedure, Status.ROFS)
        self._identify()
        try:
            return _READS[procedure](self, call)
        except NfsError as error:
            return nfs3.failed(procedure, error.status)

    def _tree(self, handle: bytes) -> Tree:
        """The tree of a handle, when this client may have it."""
        tree = self._shared.by_export.get(export_of(handle))
        if tree is None:
            raise NfsError(Status.STALE)
        if tree.root not in self._roots:
            raise NfsError(Status.ACCES)
        return tree

    def _getattr(self, call: Call) -> bytes:
        handle = nfs3.parse_handle(call.arguments)
        return pack_u32(Status.OK) + self._tree(handle).attributes(handle).serialise()

    def _lookup(self, call: Call) -> bytes:
        handle, name = nfs3.parse_lookup(call.arguments)
        tree = self._tree(handle)
        self._need(Access.LOOKUP, tree.attributes(handle), call)
        return nfs3.looked_up(*tree.lookup(handle, name))

    def _access(self, call: Call) -> bytes:
        handle, asked = nfs3.parse_access(call.arguments)
        attributes = self._tree(handle).attributes(handle)
        granted = permitted(attributes, call.credentials) & asked
        return pack_u32(Status.OK) + nfs3.post_op(attributes) + pack_u32(granted)

    def _readlink(self, call: Call) -> bytes:
        handle = nfs3.parse_handle(call.arguments)
        text, attributes = self._tree(handle).link(handle)
        return pack_u32(Status.OK) + nfs3.post_op(attributes) + pack_opaque(text)

    def _read(self, call: Call) -> bytes:
        handle, offset, count = nfs3.parse_read(call.arguments)
        tree = self._tree(handle)
        data, attributes = tree.read(handle, offset, count)
        self._need(Access.READ, attributes, call)
        end = offset + len(data) >= attributes.size
        head = nfs3.read_head(attributes, len(data), end=end)
        return b"".join((head, data, bytes(-len(data) % 4)))

    def _readdir(self, call: Call) -> bytes:
        plus = call.procedure == Procedure.READDIRPLUS
        asked = nfs3.parse_readdir(call.arguments, plus=plus)
        tree = self._tree(asked.handle)
        names, directory = tree.names(asked.handle)
        self._need(Access.READ, directory, call)
        own = [Name(1, b".", directory.fileid), Name(2, b"..", tree.parent_inode(directory))]
        entries, room, end = [], asked.limit - nfs3.LISTED_OVERHEAD, True
        for name in (n for n in [*own, *names] if n.cookie > asked.cookie):
            entry = _entry(tree, name, plus=plus).serialise(plus=plus)
            room -= len(entry) + 4
            if room < 0:
                end = False
                break
            entries.append(entry)
        if not entries and not end:
            raise NfsError(Status.TOOSMALL)
        return nfs3.listed(directory, entries, end=end)

    def _fsstat(self, call: Call) -> bytes:
        handle = nfs3.parse_handle(call.arguments)
        tree = self._tree(handle)
        return nfs3.space(tree.attributes(handle), tree.space())

    def _fsinfo(self, call: Call) -> bytes:
        handle = nfs3.parse_handle(call.arguments)
        return nfs3.info(self._tree(handle).attributes(handle))

    def _pathconf(self, call: Call) -> bytes:
        handle = nfs3.parse_handle(call.arguments)
        return nfs3.path_limits(self._tree(handle).attributes(handle))

    def _need(self, access: Access, attributes: nfs3.Attributes, call: Call) -> None:
        if not permitted(attributes, call.credentials) & access:
            raise NfsError(Status.ACCES)


def _entry(tree: Tree, name: Name, *, plus: bool) -> Entry:
    found = tree.entry(name) if plus and name.cookie > 2 else None
    handle, attributes = found or (None, None)
    return Entry(name.fileid, name.name, name.cookie, attributes, handle)


_READS: Mapping[Procedure, Callable[[_Connection, Call], bytes]] = {
    Procedure.GETATTR: _Connection._getattr,
    Procedure.LOOKUP: _Connection._lookup,
    Procedure.ACCESS: _Connection._access,
    Procedure.READLINK: _Connection._readlink,
    Procedure.READ: _Connection._read,
    Procedure.READDIR: _Connection._readdir,
    Procedure.READDIRPLUS: _Connection._readdir,
    Procedure.FSSTAT: _Connection._fsstat,
    Procedure.FSINFO: _Connection._fsinfo,
    Procedure.PATHCONF: _Connection._pathconf,
}
