"""Everything that the processes of one server say to each other: the server, the keeper (which
mounts), and the workers (which serve NFS).

What is asked has an answer with the same number. Each side has a table of handlers by kind.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

from pydantic import ConfigDict, TypeAdapter

from daskel.core.history.events import MountRefusal, Trouble


@dataclass(frozen=True, slots=True)
class Message:
    """Bytes are written in hexadecimal."""

    __pydantic_config__ = ConfigDict(ser_json_bytes="hex", val_json_bytes="hex", extra="forbid")


# --- the keeper ---


@dataclass(frozen=True, slots=True)
class StartKeeper(Message):
    """To the process that starts others: with the descriptor of the new one's channel."""


@dataclass(frozen=True, slots=True)
class StartWorker(Message):
    """Start a worker, with the descriptor of its channel."""


@dataclass(frozen=True, slots=True)
class Ready(Message):
    """The first word of the keeper."""

    can_mount: bool


@dataclass(frozen=True, slots=True)
class SlateName(Message):
    """One client's slate of one root, below the folder of all slates."""

    slates: str
    root: str
    client: str


@dataclass(frozen=True, slots=True)
class AskVersions(Message):
    """Which versions of a root are there? `path`: below the folder of all roots."""

    roots: str
    path: str


@dataclass(frozen=True, slots=True)
class Versions(Message):
    """The version that clients get, and those that are on the disk."""

    used: int
    there: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Publish(Message):
    """Publish what a root boots with, where that has changed; `published`: the folder for it,
    `path`: of the root, below the folder of all roots."""

    published: str
    name: str
    roots: str
    path: str
    images: bool  # are sent whole
    group: int | None  # that they belong to then


@dataclass(frozen=True, slots=True)
class Republished(Message):
    """Whether it boots with anything else from now on."""

    changed: bool


@dataclass(frozen=True, slots=True)
class AskSlates(Message):
    """Which versions were slates made on? `slates`: the folder of all slates."""

    slates: str


@dataclass(frozen=True, slots=True)
class SlateOn(Message):
    """A slate, the version that it was made on, and whether something of it is frozen."""

    root: str
    client: str
    version: int
    frozen: bool


@dataclass(frozen=True, slots=True)
class Slates(Message):
    """All slates."""

    slates: tuple[SlateOn, ...]


@dataclass(frozen=True, slots=True)
class OpenSlate(Message):
    """Mount a slate on the version of its root; `own`: files made for its client; `wanted`: the
    version for a slate that is new, None for the one in use."""

    slate: SlateName
    roots: str
    path: str
    own: dict[str, str]
    booting: bool  # its client begins a boot
    only_if_there: bool  # not one that is new
    wanted: int | None = None


@dataclass(frozen=True, slots=True)
class Opened(Message):
    """Where a slate's view is mounted."""

    folder: str
    upper: str  # where what is changed is kept
    version: int
    frozen: bool = False  # something of it


@dataclass(frozen=True, slots=True)
class NotThere(Message):
    """No slate, and none was to be made."""


@dataclass(frozen=True, slots=True)
class MustBeWiped(Message):
    """Close it everywhere, and ask for it to be made anew first."""


@dataclass(frozen=True, slots=True)
class OpenDisk(Message):
    """Where a client that gets blocks keeps its changes: a file that is made if missing.

    `size` in bytes; `version` of the root that the client is on."""

    slate: SlateName
    version: int
    size: int


@dataclass(frozen=True, slots=True)
class DiskAt(Message):
    """Where that file is, and whether something of it is frozen."""

    path: str
    frozen: bool


@dataclass(frozen=True, slots=True)
class BootBegins(Message):
    """What its client changed of a fresh slate goes when it mounts its root."""

    slate: SlateName
    fresh: bool


@dataclass(frozen=True, slots=True)
class CloseSlate(Message):
    """Unmount a slate's view."""

    slate: SlateName


@dataclass(frozen=True, slots=True)
class WipeSlate(Message):
    """Unmount it, and throw away what was changed."""

    slate: SlateName


@dataclass(frozen=True, slots=True)
class RenewSlate(Message):
    """Make a slate anew that must be wiped."""

    slate: SlateName


@dataclass(frozen=True, slots=True)
class ShownView(Message):
    """A slate, and the addresses that may have it."""

    root: str
    client: str
    own: dict[str, str]
    addresses: tuple[str, ...]
    slates: str  # the folder below which it is


@dataclass(frozen=True, slots=True)
class ShowViews(Message):
    """All that the operating system's NFS server is to export from now on."""

    roots: str
    plain: dict[str, tuple[str, ...]]  # addresses by root, of those that see it as it is
    paths: dict[str, str]  # each root's path below the folder of all roots
    views: tuple[ShownView, ...]
    any_port: tuple[str, ...] = ()  # roots that every program of a client may ask for


@dataclass(frozen=True, slots=True)
class Shown(Message):
    """The version that clients have, by root and by path of a slate; what is not shown."""

    versions: dict[str, int]
    problems: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Done(Message):
    """It was done, and there is nothing to say of it."""


@dataclass(frozen=True, slots=True)
class Failed(Message):
    """It could not be done."""

    error: str  # for people


@dataclass(frozen=True, slots=True)
class FindFile(Message):
    """A worker asks for a file of an overlay, by its handle's body, with a descriptor of the
    export; there is one in the answer when the file is still there."""

    body: bytes


@dataclass(frozen=True, slots=True)
class OpenTree(Message):
    """A worker asks for the folder of an export as a mount of its own; the answer has a
    descriptor of it where this process may mount."""

    folder: str
    writable: bool


@dataclass(frozen=True, slots=True)
class OpenFile(Message):
    """A worker asks for an image, or for what a client keeps; the answer has a descriptor."""

    path: str
    writable: bool


# --- to the workers ---


@dataclass(frozen=True, slots=True)
class Begin(Message):
    """The first word to a worker."""

    key: bytes  # what handles are made with


@dataclass(frozen=True, slots=True)
class CloseConnection(Message):
    """It gives way to others."""

    number: int


@dataclass(frozen=True, slots=True)
class ExportAt(Message):
    """One export: its number in handles, and where it is."""

    number: bytes
    folder: str
    version: int
    upper: str | None = None  # where what is changed is kept; None when nothing may be
    limit: int | None = None  # bytes that may be changed


@dataclass(frozen=True, slots=True)
class Grant(Message):
    """All that a client may have from now on; `later`: numbers of what cannot be had yet,
    `any_port`: of what its every program may ask for, not root's alone."""

    peer: str
    exports: tuple[ExportAt, ...]
    later: tuple[bytes, ...] = ()
    any_port: tuple[bytes, ...] = ()


@dataclass(frozen=True, slots=True)
class Connection(Message):
    """With the descriptor of a client's connection, which has a `number` from now on. `reserved`:
    from a port that only a privileged program may use (below 1024)."""

    peer: str
    reserved: bool
    number: int
    grant: Grant
    blocks: bool = False  # it speaks NBD, not NFS


@dataclass(frozen=True, slots=True)
class CloseExport(Message):
    """It is about to be taken away."""

    number: bytes


@dataclass(frozen=True, slots=True)
class MountHere(Message):
    """What a client that asked may mount: an export, or a folder below it."""

    peer: str
    number: bytes
    root: str
    below: str


@dataclass(frozen=True, slots=True)
class MountNot(Message):
    """What a client asked for may not be mounted."""

    status: int  # of MOUNT


@dataclass(frozen=True, slots=True)
class BlockHere(Message):
    """The file that a client may have as a block device."""

    path: str
    writable: bool
    description: str  # for people


@dataclass(frozen=True, slots=True)
class BlockNot(Message):
    """Why a client may not have a block device."""

    reason: str


@dataclass(frozen=True, slots=True)
class BlockNames(Message):
    """The block devices that a client may have."""

    names: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Paths(Message):
    """All that a client may mount."""

    paths: tuple[str, ...]


# --- from the workers ---


@dataclass(frozen=True, slots=True)
class AskMount(Message):
    """A client wants to mount a path; `reserved` as of its connection."""

    peer: str
    path: str
    reserved: bool


@dataclass(frozen=True, slots=True)
class AskPaths(Message):
    """All that a client may mount."""

    peer: str


@dataclass(frozen=True, slots=True)
class AskBlock(Message):
    """A client wants a block device by its name, on the connection with a number."""

    peer: str
    number: int
    name: str


@dataclass(frozen=True, slots=True)
class AskBlocks(Message):
    """The block devices that a client may have."""

    peer: str


@dataclass(frozen=True, slots=True)
class MalformedCall(Message):
    """Bytes from a client could not be read."""

    reason: str
    service: str = "nfs"


@dataclass(frozen=True, slots=True)
class NoFolder(Message):
    """A client wanted a folder of a root that is not there."""

    peer: str
    root: str
    below: str


@dataclass(frozen=True, slots=True)
class InTrouble(Message):
    """A client was answered with an error that its programs see."""

    peer: str
    what: Trouble


@dataclass(frozen=True, slots=True)
class NotServed(Message):
    """A client asked for something that is not served at all."""

    peer: str
    reason: str
    why: MountRefusal


@dataclass(frozen=True, slots=True)
class Warned(Message):
    """A warning for the server's log."""

    text: str


@dataclass(frozen=True, slots=True)
class Gone(Message):
    """One of a client's connections has ended."""

    peer: str
    number: int


class Envelope(NamedTuple):
    """A message; `number` says which question it is, or which it answers, 0 for neither."""

    message: Message
    number: int = 0


_KINDS = {kind.__name__: kind for kind in Message.__subclasses__()}


_ADAPTERS: dict[type[Message], TypeAdapter[Any]] = {}


def _adapter(kind: type[Message]) -> TypeAdapter[Any]:
    made = _ADAPTERS.get(kind)
    if made is None:
        made = _ADAPTERS[kind] = TypeAdapter(kind)
    return made


def encode(envelope: Envelope) -> bytes:
    """As it is sent: the kind, the number, and the fields as JSON."""
    kind = type(envelope.message)
    body = _adapter(kind).dump_json(envelope.message)
    return f"{kind.__name__} {envelope.number} ".encode() + body


def decode(data: bytes) -> Envelope:
    """Raises ValueError for what `encode` did not make."""
    name, number, body = data.split(b" ", 2)
    kind = _KINDS.get(name.decode())
    if kind is None:
        raise ValueError(f"no message {name!r}")
    return Envelope(_adapter(kind).validate_json(body), int(number))
