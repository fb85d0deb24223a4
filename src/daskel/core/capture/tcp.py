"""HTTP and NFS in a capture: requests and calls where a segment begins with one, and the answers.

Segments may be cut and some may be missing: what is read stands at the beginning of a segment,
sizes follow from sequence numbers."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from ipaddress import IPv4Address

from daskel.core.capture.heard import Heard
from daskel.core.content import up
from daskel.core.history.events import (
    Abort,
    FileAborted,
    FileAsked,
    FileMissing,
    FileSent,
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
from daskel.core.nfs.rpc import Call, parse_call
from daskel.core.reader import MalformedError, Reader

FIN, SYN, RST, ACK = 1, 2, 4, 16
_REQUEST = re.compile(rb"(GET|HEAD|POST) (\S+) HTTP/1")
_ANSWER = re.compile(rb"HTTP/1\.. (\d{3})")
_LENGTH = re.compile(rb"\r\ncontent-length: *(\d+)", re.IGNORECASE)
_PORTMAP = 100000
_NFS = 2049
_SERVICES = {_NFS: Service.NFS, 111: Service.PORTMAP, 80: Service.HTTP}
_TROUBLES = {
    Status.NOSPC: Trouble.FULL, Status.DQUOT: Trouble.FULL, Status.STALE: Trouble.STALE,
}  # fmt: skip
_NAMES = {2: "it is not there", 13: "it is not allowed"}
_REFUSALS = {2: MountRefusal.ABSENT, 13: MountRefusal.NOT_ALLOWED}
_ACCEPTED = {2: MountRefusal.VERSION}  # RFC 5531: PROG_MISMATCH
_MISSING = {404: Missed.ABSENT, 410: Missed.ABSENT, 403: Missed.NOT_ALLOWED}
_MOST_CALLS = 4096  # that wait for their answers on one connection

End = tuple[IPv4Address, int]


@dataclass
class _Get:
    """A file that is asked for over HTTP."""

    method: bytes
    path: str
    at: float
    start: int = -1  # sequence number of the answer
    length: int = -1  # bytes of the answer
    size: int = 0  # bytes of the file
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
    get: _Get | None = None
    calls: dict[int, Call] = field(default_factory=dict)  # by transaction number
    paths: dict[int, str] = field(default_factory=dict)  # of MOUNT


class TcpHeard:
    """Follows HTTP, NFS, MOUNT and the port mapper of all machines in a capture."""

    def __init__(self, heard: Heard) -> None:
        self._heard = heard
        self._open: dict[tuple[End, End], _Connection] = {}
        self._troubled: set[tuple[str | None, Trouble]] = set()
        self._roots: dict[str | None, str] = {}

    def feed(
        self, at: float, source: End, target: End, flags: int, sequence: int, data: bytes,
        length: int,
    ) -> None:  # fmt: skip
        """`data` may be cut; `length`: bytes of the whole payload."""
        if flags & (SYN | ACK) == SYN:
            self._begun(at, source, target)
            return
        connection = self._open.get((source, target))
        if connection:
            if length:
                self._from_client(at, connection, data)
            if flags & (FIN | RST):
                self._left(at, connection)
            return
        connection = self._open.get((target, source))
        if connection is None:
            if length and target[1] in _SERVICES:  # it was open before the capture began
                self._begun(at, source, target)
                self._from_client(at, self._open[source, target], data)
            return
        if flags & RST and not connection.answered:
            connection.refused = True
        connection.answered = connection.answered or not flags & RST
        if length:
            self._from_server(at, connection, sequence, data, length)

    def finish(self) -> None:
        """What was never answered, the last of each kind for each machine."""
        found: dict[tuple[IPv4Address, End], tuple[int, _Connection]] = {}
        good = {(c.client[0], c.server) for c in self._open.values() if c.answered}
        for c in self._open.values():
            key = c.client[0], c.server
            if not c.answered and key not in good and c.server[1] in _SERVICES:
                found[key] = found.get(key, (0, c))[0] + c.tries, c
        for times, c in found.values():
            if times < 2 and not c.refused:
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

    def _from_client(self, at: float, c: _Connection, data: bytes) -> None:
        match = _REQUEST.match(data)
        if match:
            path = match[2].decode("utf-8", "replace").lstrip("/")
            c.get = _Get(match[1], path, at, body=data.partition(b"\r\n\r\n")[2])
            if c.get.method == b"GET":
                who = self._heard.at(c.client[0])
                asked = FileAsked(who, path, self._heard.kind(who.mac, path), 0, "http")
                self._heard.say(at, asked)
        elif c.get and c.get.method == b"POST" and not c.get.status:
            c.get.body += data
        else:
            self._records(data, lambda record: self._call(c, record))

    def _from_server(
        self, at: float, c: _Connection, sequence: int, data: bytes, length: int
    ) -> None:
        get = c.get
        if get is None:
            self._records(data, lambda record: self._reply(at, c, record))
            return
        if not get.status and (match := _ANSWER.match(data)):
            get.status, get.start = int(match[1]), sequence
            head, found = data.partition(b"\r\n\r\n")[0], _LENGTH.search(data)
            get.size = int(found[1]) if found else 0
            get.length = len(head) + 4 + get.size
        if get.status and (sequence + length - get.start) & 0xFFFFFFFF >= get.length:
            self._got(at, c, get)

    def _got(self, at: float, c: _Connection, get: _Get) -> None:
        c.get, who = None, self._heard.at(c.client[0])
        if get.method == b"POST":
            if get.path == up.TOLD_AT and get.status == 200:
                try:
                    self._heard.say(at, Up(who, *up.parse(get.body)))
                except MalformedError:
                    return
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
        if c.get and c.get.method == b"GET":
            who = self._heard.at(c.client[0])
            reason = "the client closed the connection"
            self._heard.say(at, FileAborted(who, c.get.path, "http", reason, Abort.CLOSED))
            c.get = None

    # --- NFS, MOUNT ---

    def datagram(self, at: float, source: End, target: End, data: bytes) -> None:
        """MOUNT over UDP."""
        c = self._open.get((source, target))
        if c is None and (target, source) in self._open:
            self._reply(at, self._open[target, source], data)
            return
        if c is None:
            c = self._open[source, target] = _Connection(source, target, at, answered=True)
        self._call(c, data)

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

    def _call(self, c: _Connection, record: bytes) -> None:
        try:
            call = parse_call(record)
            if call.program not in (mount.PROGRAM, nfs3.PROGRAM, _PORTMAP):
                return
            if call.program == mount.PROGRAM and call.procedure == mount.Procedure.MOUNT:
                c.paths[call.xid] = mount.parse_path(call.arguments)
        except MalformedError:
            return
        if len(c.calls) > _MOST_CALLS:
            c.calls.clear()
        c.calls[call.xid] = call

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
            if call.program != _PORTMAP:
                reason = f"{name} version {call.version} is not served by {c.server[0]}"
                kind = _ACCEPTED.get(accepted, MountRefusal.OTHER)
                self._heard.say(at, MountRefused(who, path, reason, kind))
            return
        if call.program == nfs3.PROGRAM and call.version == 4 and who.mac not in self._roots:
            self._roots[who.mac] = "/"
            self._heard.say(at, Mounted(who, "/", f"NFS version 4 of {c.server[0]}"))
        if call.program == mount.PROGRAM and call.procedure == mount.Procedure.MOUNT:
            status = reader.number(4)
            if status:
                why = _NAMES.get(status, f"status {status}")
                kind = _REFUSALS.get(status, MountRefusal.OTHER)
                said = f"{c.server[0]} says: {why}"
                self._heard.say(at, MountRefused(who, path, said, kind, status))
                return
            root = path.rstrip("/").rpartition("/")[2] or path
            self._roots[who.mac] = root
            self._heard.say(at, Mounted(who, root, f"{c.server[0]}:{path}"))
        elif call.program == nfs3.PROGRAM and call.version == 3 and call.procedure:
            self._trouble(at, c, reader.number(4))

    def _trouble(self, at: float, c: _Connection, status: int) -> None:
        what, who = _TROUBLES.get(Status(status) if status in list(Status) else Status.OK), None
        who = self._heard.at(c.client[0])
        if what and (who.mac, what) not in self._troubled:
            self._troubled.add((who.mac, what))
            self._heard.say(at, RootTrouble(who, what, self._roots.get(who.mac, "")))
