"""What `--json` prints of roots, slates and files. The comments behind the keys are their
reference."""

from __future__ import annotations

from typing import NotRequired

from typing_extensions import TypedDict

from daskel.core.formats.shared import FindingFormat

_From = TypedDict("_From", {"from": str})  # a word of Python


class RootRow(TypedDict):
    """A root filesystem."""

    root: str
    used: int  # the version that clients get; 0: the working tree
    versions: list[int]
    there: bool  # its folder is
    size: int | None
    image: int | None  # bytes of its image, where it has one
    slate: str  # none, fresh or keep
    limit: int | None  # of one slate
    slates: int
    loadouts: list[str]


class VersionRow(TypedDict):
    """A sealed version of a root."""

    version: int
    used: bool
    sealed: float
    files: int
    size: int
    new: int  # bytes that it does not share with the version before
    note: str
    slates: list[str]  # the clients whose slates are on it
    image: int | None  # bytes of its image, where it has one
    digest: str | None  # SHA-256 of the image


class RootShown(TypedDict):
    """One root, whole."""

    root: str
    tree: str  # the folder of its working tree
    versions: list[VersionRow]


class KernelRow(TypedDict):
    """A kernel in a root's /boot."""

    path: str
    release: str | None
    processor: str | None
    initrd: str | None


class RootMade(TypedDict):
    """A root that was built or brought in; what became of the site file where it was changed."""

    root: str
    tree: str
    made_of: str
    kernels: list[KernelRow]
    fitted: list[str]  # what was changed so that it boots without a disk, for people
    written: NotRequired[bool]
    files: NotRequired[list[str]]  # of the site
    said: NotRequired[str]
    findings: NotRequired[list[FindingFormat]]  # why the site file was not changed


class RootFiles(TypedDict):
    """What was copied below `files`."""

    root: str
    release: str | None
    files: list[str]


class RootInspected(TypedDict):
    """Whether it can be booted without a disk."""

    root: str
    version: int
    findings: list[FindingFormat]


class RootSealed(TypedDict):
    """A new version."""

    root: str
    version: int
    used: int
    new: int
    size: int
    files: int
    forgotten: list[str]  # what was left out
    image: int | None  # bytes of its image, where one was made


class RootPacked(TypedDict):
    """The image of a version."""

    root: str
    version: int
    image: int  # bytes
    digest: str  # SHA-256


class RootSent(TypedDict):
    """A version that another server has now, with the digest of all its files."""

    root: str
    version: int
    server: str
    digest: str  # SHA-256
    sent: bool  # no: it was there already, the same
    used: int  # the version that clients of that server get; 0: the working tree


class Receiving(TypedDict):
    """Where something is to be put that comes from another server."""

    there: bool  # it is here already, the same
    folder: str
    used: NotRequired[int]  # of a root: the version that clients get
    share: NotRequired[str | None]  # a version that may have some of it


class RootReceived(TypedDict):
    """A version was put in place."""

    used: int  # the version that clients get


class SlatesMoved(TypedDict):
    """A client's slates are on another server."""

    home: str
    before: str
    slates: int  # how many


class RootUsed(TypedDict):
    """The version that clients get from now on."""

    root: str
    used: int
    before: int


class RootDropped(TypedDict):
    """A version that is gone."""

    root: str
    dropped: int


class PathChange(TypedDict):
    """A path that differs."""

    path: str
    what: str  # added, removed or changed


class PackageChange(TypedDict):
    """A package that differs."""

    name: str
    before: str | None
    after: str | None


class RootDifference(TypedDict):
    """What differs between two versions."""

    paths: list[PathChange]
    packages: list[PackageChange]


class SlateRow(TypedDict):
    """What one client has on top of a root."""

    client: str
    root: str
    version: int  # that it is on
    size: int
    files: int
    frozen: bool
    made: float
    used: float  # last
    known: bool  # client and root are in the site
    kind: str  # fresh or keep; "" when not known
    limit: int | None
    connected: bool


class SlateChange(TypedDict):
    """A path that a client changed."""

    path: str
    what: str
    size: int


class SlateWiped(TypedDict):
    """A slate that begins anew."""

    wiped: str  # whose
    root: str


class Conflict(TypedDict):
    """What both the client and the version changed."""

    path: str
    version: str  # what the version did to it
    taken: bool  # the version's is taken


class SlateMoved(TypedDict):
    """A slate on another version."""

    client: str
    version: int
    conflicts: list[Conflict]


class FileRow(_From):
    """A file that clients can fetch, and where it comes `from`."""

    path: str
    size: int | None  # null: it is computed
    what: str


class FileShown(FileRow):
    """A file as a client gets it."""

    text: str | None  # null: it is not text
    parts: NotRequired[list[str]]  # of an image that is made of files: a stub, the kernel, initrds
    arguments: NotRequired[str]  # its command line


class BootFileFound(TypedDict):
    """A kernel or an initrd that was recognised."""

    path: str
    what: str
    size: int
    release: NotRequired[str]
    processor: NotRequired[str]


class FilesAdded(TypedDict):
    """What was brought in."""

    folder: str
    files: int
    found: list[BootFileFound]
    live: str | None  # what system it is, where it boots as it came
    written: NotRequired[bool]  # the loadout that boots it
    said: NotRequired[str]
    findings: NotRequired[list[FindingFormat]]
