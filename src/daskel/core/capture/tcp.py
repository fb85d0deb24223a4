"""HTTP and NFS in a capture: requests and calls where a segment begins with one, and the answers.

Segments may be cut and some may be missing: what is read stands at the beginning of a segment,
sizes follow from sequence numbers."""

from __future__ import annotations

import re
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field

from dpkt.tcp import TCP

from daskel.core.capture.heard import End, Heard
from daskel.core.content import image_steps, up
from daskel.core.history.events import (
    Abort,
    Address,
    FileAborted,
    FileAsked,
    FileKind,
    FileMissing,
    FileSent,
    FileUntold,
    Missed,
    Mounted,
    MountRefusal,
    MountRefused,
    RootTrouble,
    Service,
    Trouble,
    Unanswered,
    Up,
)
from daskel.core.nfs import mount, nfs3
from daskel.core.nfs.nfs3 import Status
from daskel.core.nfs.rpc import NOBODY, Call, parse_call
from daskel.core.reader import MalformedError, Reader

FIN, SYN, RST, ACK = 1, 2, 4, 16
_REQUEST = re.compile(rb"(GET|HEAD|POST) (\S+) HTTP/1")
_ANSWER = re.compile(rb"HTTP/1\.. (\d{3})")
_LENGTH = re.compile(rb"\r\ncontent-length: *(\d+)", re.IGNORECASE)
_PORTMAP = 100000
_NFS = 2049
_SERVICES = {_NFS: Service.NFS, 111: Service.PORTMAP, 80: Service.HTTP}
_TROUBLES: dict[int, Trouble] = {
    Status.NOSPC: Trouble.FULL, Status.DQUOT: Trouble.FULL, Status.STALE: Trouble.STALE,
}  # fmt: skip
_NAMES = {2: "it is not there", 13: "it is not allowed"}
_REFUSALS = {2: MountRefusal.ABSENT, 13: MountRefusal.NOT_ALLOWED}
_ACCEPTED = {2: MountRefusal.VERSION}  # RFC 5531: PROG_MISMATCH
_MISSING = {404: Missed.ABSENT, 410: Missed.ABSENT, 403: Missed.NOT_ALLOWED}
_MOST_CALLS = 4096  # that wait for their answers on one connection

_CALL_HEAD = 24  # bytes until the end of what is called
_SEQUENCE, _PUT_HANDLE, _SEQUENCE_SIZE = 53, 22, 32  # operations, and bytes (RFC 8881)
_TRIES = 3  # connections that are asked for in vain, before it is called silence
_NULL = 0  # the procedure that only asks whether somebody is there


@dataclass
class _Get:
    """A file that is asked for over HTTP."""

    method: bytes
    path: str
    at: float
    start: int  # sequence number of the answer
    length: int | None = None  # bytes of the answer
    size: int = 0  # bytes of the file
    taken: int = 0  # bytes of the answer that the client has acknowledged
    sent: int = 0  # bytes of it that were seen
    body: bytes = b""
    status: int = 0


@dataclass
class _Connection:
    client: End
    server: End
    began: float
    tries: int = 1
    answered: bool = False
    refused: bool = False
    spoken: int | None = None  # the sequence number behind what the client has said
    by_client: bool = False  # the client has spoken on it, so that somebody is there
    get: _Get | None = None
    calls: dict[int, Call] = field(default_factory=dict)  # by transaction number
    paths: dict[int, str] = field(default_factory=dict)  # of MOUNT

    def is_news(self, sequence: int, length: int) -> bool:
        """Whether the client says something new. It repeats what it sent when an acknowledgement is
        late; that is the same request, not another one."""
        end = (sequence + length) & 0xFFFFFFFF
        if self.spoken is not None and not 0 < (end - self.spoken) & 0xFFFFFFFF < 1 << 31:
            return False
        self.spoken = end
        return True


class TcpHeard:
    """Follows HTTP, NFS, MOUNT and the port mapper of all machines in a capture."""

    def __init__(self, heard: Heard) -> None:
        self._heard = heard
        self._open: dict[tuple[End, End], _Connection] = {}
        self._troubled: set[tuple[str | None, Trouble]] = set()
        self._roots: dict[str | None, str] = {}
        self._asked_for: dict[Address, tuple[float, str]] = {}  # to be mounted, and not answered

    def feed(self, at: float, source: End, target: End, segment: TCP, length: int) -> None:
        """Its data may be cut; `length`: bytes of the whole payload."""
        flags, data = segment.flags, bytes(segment.data)
        if flags & (SYN | ACK) == SYN:
            self._begun(at, source, target)
            return
        connection = self._open.get((source, target))
        if connection:
            connection.by_client = connection.by_client or not flags & RST
            self._taken(at, connection, segment.ack if flags & ACK else None)
            if length and connection.is_news(segment.seq, length):
                self._from_client(at, connection, data, segment.ack)
            if flags & (FIN | RST):
                self._left(at, connection)
            return
        connection = self._open.get((target, source))
        if connection is None:
            if length and target[1] in _SERVICES:  # it was open before the capture began
                self._begun(at, source, target)
                self._open[source, target].by_client = True
                self._open[source, target].is_news(segment.seq, length)
                self._from_client(at, self._open[source, target], data, segment.ack)
            return
        if flags & RST and not connection.answered:
            connection.refused = True
        connection.answered = connection.answered or not flags & RST
        if length:
            self._from_server(at, connection, segment.seq, data, length)

    def finish(self) -> None:
        """What was never answered, the last of each kind for each machine."""
        for c in self._open.values():
            self._ended(c, c.get.at if c.get else c.began)
        for address, (at, path) in self._asked_for.items():
            who = self._heard.at(address)
            self._heard.say(at, FileUntold(who, path, FileKind.OTHER, "nfs"))
        found: dict[tuple[Address, End], tuple[int, _Connection]] = {}
        good = {(c.client[0], c.server) for c in self._open.values() if c.answered or c.by_client}
        for c in self._open.values():
            key = c.client[0], c.server
            if not c.answered and key not in good and c.server[1] in _SERVICES:
                found[key] = found.get(key, (0, c))[0] + c.tries, c
        for times, c in found.values():
            if times < _TRIES and not c.refused:
                continue
            who, what = self._heard.at(c.client[0]), _SERVICES[c.server[1]]
            asked, server = f"TCP port {c.server[1]}", c.server[0]
            silence = Unanswered(who, what, asked, server, times, c.refused)
            self._heard.say(c.began, silence)

    def _begun(self, at: float, source: End, target: End) -> None:
        before = self._open.get((source, target))
        if before and not before.answered:
            before.tries += 1
            return
        self._open[source, target] = _Connection(source, target, at)

    # --- HTTP ---

    def _from_client(self, at: float, c: _Connection, data: bytes, expects: int) -> None:
        """`expects`: the sequence number of what the server is to send next."""
        match = _REQUEST.match(data)
        if match:
            self._ended(c, at)
            path = match[2].decode("utf-8", "replace").lstrip("/")
            c.get = _Get(match[1], path, at, expects, body=data.partition(b"\r\n\r\n")[2])
            if c.get.method == b"GET":
                who = self._heard.at(c.client[0])
                asked = FileAsked(who, path, self._heard.kind(who.mac, path), 0, "http")
                self._heard.say(at, asked)
        elif c.get and c.get.method == b"POST" and not c.get.status:
            c.get.body += data
        else:
            self._records(data, lambda record: self._call(at, c, record))

    def _taken(self, at: float, c: _Connection, acknowledged: int | None) -> None:
        """What the client acknowledges, it has, whether or not that was seen."""
        get = c.get
        if get is None or acknowledged is None:
            return
        taken = (acknowledged - get.start) & 0xFFFFFFFF
        get.taken = max(get.taken, taken if taken < 1 << 31 else 0)
        if get.length is not None and get.taken >= get.length:
            self._got(at, c, get)

    def _from_server(
        self, at: float, c: _Connection, sequence: int, data: bytes, length: int
    ) -> None:
        get = c.get
        if get is None:
            self._records(data, lambda record: self._reply(at, c, record))
            return
        if not get.status and (match := _ANSWER.match(data)):
            get.status, get.start = int(match[1]), sequence
            head, whole, _ = data.partition(b"\r\n\r\n")
            found = _LENGTH.search(head)
            if whole and (found or get.status >= 400):
                get.size = int(found[1]) if found and get.method != b"HEAD" else 0
                get.length = len(head) + 4 + get.size
        sent = (sequence + length - get.start) & 0xFFFFFFFF
        get.sent = max(get.sent, sent if sent < 1 << 31 else 0)
        if get.status >= 400 or (get.length is not None and get.sent >= get.length):
            self._got(at, c, get)

    def _got(self, at: float, c: _Connection, get: _Get) -> None:
        c.get, who = None, self._heard.at(c.client[0])
        if get.method == b"POST":
            if get.path == up.TOLD_AT and get.status == 200:
                try:
                    self._heard.say(at, Up(who, *up.parse(get.body)))
                except MalformedError:
                    return
            if get.path == image_steps.TOLD_AT and get.status == 200:
                with suppress(MalformedError):
                    self._heard.say(at, image_steps.parse(who, get.body))
            return
        if get.status >= 400:
            reason = f"{c.server[0]} answers with status {get.status}"
            why = _MISSING.get(get.status, Missed.UNTOLD)
            missing = FileMissing(who, get.path, "http", reason, why=why, code=get.status)
            self._heard.say(at, missing)
        elif get.method == b"GET" and get.status in (200, 206):
            kind, seconds = self._heard.kind(who.mac, get.path), at - get.at
            self._heard.say(at, FileSent(who, get.path, kind, get.size, seconds, "http"))

    def _left(self, at: float, c: _Connection) -> None:
        """The client ended the connection: before it had all, where it can be known."""
        get = c.get
        if get and get.method == b"GET" and get.length is not None and get.taken < get.length:
            who = self._heard.at(c.client[0])
            reason = "the client closed the connection"
            self._heard.say(at, FileAborted(who, get.path, "http", reason, Abort.CLOSED))
            c.get = None
        self._ended(c, at)

    def _ended(self, c: _Connection, at: float) -> None:
        """There is no more of an answer, and it is not known how much it should have been."""
        get, c.get = c.get, None
        if get and get.method == b"GET":
            who = self._heard.at(c.client[0])
            kind = self._heard.kind(who.mac, get.path)
            self._heard.say(at, FileUntold(who, get.path, kind, "http"))

    # --- NFS, MOUNT ---

    def datagram(self, at: float, source: End, target: End, data: bytes) -> None:
        """MOUNT over UDP."""
        c = self._open.get((source, target))
        if c is None and (target, source) in self._open:
            self._reply(at, self._open[target, source], data)
            return
        if c is None:
            c = self._open[source, target] = _Connection(source, target, at, answered=True)
        self._call(at, c, data)

    def answered(self, at: float, source: End, target: End, data: bytes) -> bool:
        """Whether a datagram answers a call that came from any port to any port."""
        c = self._open.get((target, source))
        if c is None or source[1] in _SERVICES or len(data) < 24:
            return False
        self._reply(at, c, data)
        return True

    def _records(self, data: bytes, take: Callable[[bytes], None]) -> None:
        """The records of a segment that begins with one; of a cut one, what there is."""
        at = 0
        while at + 28 <= len(data):
            head = int.from_bytes(data[at : at + 4], "big")
            if not head & 0x80000000:
                return
            length = head & 0x7FFFFFFF
            take(data[at + 4 : at + 4 + length])
            at += 4 + length

    def _call(self, at: float, c: _Connection, record: bytes) -> None:
        try:
            call = parse_call(record)
        except MalformedError:
            if (part := _part_of_call(record)) is None:
                return
            call = part
        try:
            if call.program not in (mount.PROGRAM, nfs3.PROGRAM, _PORTMAP):
                return
            if call.program == mount.PROGRAM and call.procedure == mount.Procedure.MOUNT:
                self._asked_for[c.client[0]] = at, ""
                path = mount.parse_path(call.arguments)
                c.paths[call.xid] = path
                self._asked_for[c.client[0]] = at, path
        except MalformedError:
            return
        if len(c.calls) > _MOST_CALLS:
            c.calls.clear()
        c.calls[call.xid] = call
        if call.program == nfs3.PROGRAM and call.version == 3 and call.procedure != _NULL:
            self._has_root(at, c)

    def _has_root(self, at: float, c: _Connection) -> None:
        """It calls for files with a handle: only a mount gives one."""
        who = self._heard.at(c.client[0])
        if who.mac in self._roots:
            return
        _, path = self._asked_for.pop(c.client[0], (at, ""))
        self._roots[who.mac] = root = _root_name(path)
        where = f"{c.server[0]}:{path}" if path else f"NFS of {c.server[0]}"
        self._heard.say(at, Mounted(who, root, where))

    def _reply(self, at: float, c: _Connection, record: bytes) -> None:
        reader = Reader(record, "RPC reply")
        try:
            xid, kind, denied = reader.number(4), reader.number(4), reader.number(4)
            call = c.calls.pop(xid, None)
            if kind != 1:
                return
            if call is None:
                self._unheard(at, c, denied, reader)
                return
            who, path = self._heard.at(c.client[0]), c.paths.pop(xid, "")
            if denied:
                reason = f"{c.server[0]} does not accept its credentials"
                refused = MountRefused(who, path, reason, MountRefusal.CREDENTIALS)
                self._heard.say(at, refused)
                return
            reader.number(4), reader.opaque(400)
            self._judge(at, c, call, path, reader)
        except MalformedError:
            return

    def _unheard(self, at: float, c: _Connection, denied: int, reader: Reader) -> None:
        """The answer to a call that began in the middle of a segment, as after a large WRITE."""
        if c.server[1] != _NFS or denied:
            return
        reader.number(4), reader.opaque(400)
        if not reader.number(4):
            self._trouble(at, c, reader.number(4))

    def _judge(self, at: float, c: _Connection, call: Call, path: str, reader: Reader) -> None:
        who, accepted = self._heard.at(c.client[0]), reader.number(4)
        name = {mount.PROGRAM: "MOUNT", nfs3.PROGRAM: "NFS"}.get(call.program, "RPC")
        if accepted:
            if call.program == mount.PROGRAM:
                self._asked_for.pop(c.client[0], None)
            if call.program != _PORTMAP:
                reason = f"{name} version {call.version} is not served by {c.server[0]}"
                kind = _ACCEPTED.get(accepted, MountRefusal.OTHER)
                self._heard.say(at, MountRefused(who, path, reason, kind))
            return
        if call.program == nfs3.PROGRAM and call.version == 4 and call.procedure:
            if who.mac in self._roots or reader.number(4) or not _with_handle(call):
                return
            self._roots[who.mac] = "/"
            self._heard.say(at, Mounted(who, "/", f"NFS version 4 of {c.server[0]}"))
        if call.program == mount.PROGRAM and call.procedure == mount.Procedure.MOUNT:
            status = reader.number(4)
            self._asked_for.pop(c.client[0], None)
            if status:
                why = _NAMES.get(status, f"status {status}")
                kind = _REFUSALS.get(status, MountRefusal.OTHER)
                said = f"{c.server[0]} says: {why}"
                self._heard.say(at, MountRefused(who, path, said, kind, status))
                return
            self._roots[who.mac] = root = _root_name(path)
            self._heard.say(at, Mounted(who, root, f"{c.server[0]}:{path}"))
        elif call.program == nfs3.PROGRAM and call.version == 3 and call.procedure:
            self._trouble(at, c, reader.number(4))

    def _trouble(self, at: float, c: _Connection, status: int) -> None:
        what, who = _TROUBLES.get(status), self._heard.at(c.client[0])
        if what and (who.mac, what) not in self._troubled:
            self._troubled.add((who.mac, what))
            self._heard.say(at, RootTrouble(who, what, self._roots.get(who.mac, "")))


def _root_name(path: str) -> str:
    return path.rstrip("/").rpartition("/")[2] or path


def _part_of_call(record: bytes) -> Call | None:
    """A call that is cut before its arguments: what it calls is there (RFC 5531 9)."""
    if len(record) < _CALL_HEAD or record[4:12] != b"\0\0\0\0\0\0\0\2":
        return None
    program, version, procedure = (
        int.from_bytes(record[at : at + 4], "big") for at in (12, 16, 20)
    )
    xid = int.from_bytes(record[:4], "big")
    return Call(xid, program, version, procedure, NOBODY, Reader(b"", "RPC call"))


def _with_handle(call: Call) -> bool:
    """A compound of NFS version 4 that begins with a file handle, which only a file system that
    was found gives (RFC 8881 18.2, 18.19, 18.46)."""
    reader = call.arguments
    try:
        reader.opaque(1024), reader.number(4), reader.number(4)  # tag, minor version, count
        operation = reader.number(4)
        if operation == _SEQUENCE:
            reader.take(_SEQUENCE_SIZE)
            operation = reader.number(4)
    except MalformedError:
        return False
    return operation == _PUT_HANDLE
