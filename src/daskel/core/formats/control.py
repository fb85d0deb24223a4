"""What the running server answers on its control socket, a line of JSON for each question.

`status`, `apply` and `watch` print the same with `--json`.
"""

from __future__ import annotations

from typing import Any, NotRequired

from typing_extensions import TypedDict


class Aside(TypedDict):
    """An address that is not given out, because somebody else was found to have it."""

    address: str
    segment: str
    until: float


class StoreAway(TypedDict):
    """The store, a database, does not answer."""

    since: float
    why: str


class PrivateRoots(TypedDict):
    """Clients with private roots, by what their keys are."""

    by: str  # what the tunnel is made by
    running: int  # whose tunnel was in use just now
    admitted: int  # that have a key
    waiting: int  # to be admitted
    without: int  # that have none


class Status(TypedDict):
    """What runs, since when, and how far each client came."""

    interface: int  # the version of all formats that programs read
    site: str
    name: str
    since: float  # it has this site
    process: int
    clients: int
    segments: list[str]  # that are served
    stages: dict[str, int]  # clients by the stage of their boot
    by_client: dict[str, str]  # their stage
    results: dict[str, int]  # clients by how their boot ended
    transfers: int  # under way
    aside: list[Aside]
    differs: bool  # the site file on the disk is another
    server: str | None  # which of the site's servers it is, where there are several
    away: StoreAway | None
    private: PrivateRoots | None  # null: this server has no tunnel


class Moving(TypedDict):
    """A file that is being sent."""

    path: str
    done: int
    size: int
    speed: float | None  # bytes per second


class WatchRow(TypedDict):
    """A machine, and its current boot."""

    client: str | None
    mac: str
    number: int
    segment: str
    firmware: str
    address: str | None
    stage: str
    result: str
    began: float
    last: float  # when something was last heard
    reached: float  # when it came to its stage
    file: Moving | None
    private: bool  # its root comes through the tunnel
    waits_for: str
    why: str  # it comes no further
    server: str | None  # the other server that it boots from; null: the one that is asked


class Watched(TypedDict):
    """The machines to which something happened since then."""

    machines: list[WatchRow]


class Happened(TypedDict):
    """What happened last, with times; see [events](events.md)."""

    events: list[tuple[float, dict[str, Any]]]


class CurrentBoot(TypedDict):
    """The boot of one client as it is kept; null: it has none."""

    boot: dict[str, Any] | None
    before: list[dict[str, Any]]  # the one before, where its firmware went on from there at once


class ConnectedClient(TypedDict):
    """A client with an NFS connection."""

    client: str
    roots: dict[str, int | None]  # that it may have, and the version that it mounted
    open: NotRequired[bool]  # with the operating system's NFS server: a connection is there now


class Connected(TypedDict):
    """Who has a root mounted."""

    clients: list[ConnectedClient]


class RunningFinding(TypedDict):
    """Why a site file is not taken over."""

    place: str
    problem: str
    remedy: str


class RunningChange(TypedDict):
    """One difference, and for whom."""

    what: str
    clients: list[str]
    unknown_machines_on: list[str]  # segments
    unnoticed: str | None  # why no machine notices it


class Compared(TypedDict):
    """What would change if the site file were taken over now."""

    findings: list[RunningFinding]
    changes: list[RunningChange]
    differs: bool
    restart: bool  # it can only be taken over by starting anew


class Applied(TypedDict):
    """Whether the site file was taken over."""

    applied: bool
    said: str
    servers: NotRequired[dict[str, bool]]  # the others that are alive: whether they have it, too
    findings: NotRequired[list[RunningFinding]]


class Lacking(TypedDict):
    """A version of a root that is not on another server as it is here."""

    root: str
    version: str
    how: str  # missing, differs, or not used


class ServerRow(TypedDict):
    """A server of the site, as the store that they share knows it. Times are seconds since 1970."""

    name: str
    alive: bool
    seen: float  # when it was heard of last
    since: float  # when it started
    version: str
    host: str  # the name of its machine
    clients: int  # that it has heard of in ten minutes
    leases: int  # addresses that machines have from it
    lag: float  # seconds that its last exchange with the database took
    site: str  # the path of its site file
    written: float  # when its site file was changed last
    this: bool  # it is the one that answers
    differs: list[str]  # files of its site that are not the same as this one's
    newer: bool  # and its own are newer
    lacks: list[Lacking]  # versions of roots that are missing there or differ from the ones here


class Servers(TypedDict):
    """All of them; none where the store is a file."""

    servers: list[ServerRow]


class Rows(TypedDict):
    """Rows of a table of the store, where it is a database: leases, sightings, once or boots."""

    rows: list[dict[str, Any]]


class SiteTexts(TypedDict):
    """The site file of a server, and what it includes, by name."""

    texts: dict[str, str]


class Forgotten(TypedDict):
    """Machines that the lobby does not know any more."""

    forgotten: bool


class Assigned(TypedDict):
    """What one client boots next."""

    assigned: bool


class Home(TypedDict):
    """Where a client's slates are from now on."""

    home: str  # the server
    before: NotRequired[str | None]  # where they were, when that was changed
    target: NotRequired[str | None]  # where they are being moved to, when nothing was changed


class WaitingKey(TypedDict):
    """A client that waits with a key for its private root."""

    client: str
    mac: str
    segment: str
    place: str  # where the machine keeps it
    word: str  # that its screen shows


class KeyWaits(TypedDict):
    """The same among those that wait in the lobby."""

    key: WaitingKey


class ClientKey(TypedDict):
    """A client's key that is admitted."""

    client: str
    mac: str
    place: str
    since: float  # seconds since 1970
    public: str  # hexadecimal
    fits: bool  # no: the client is another machine now
    server: str  # which of the server's keys it knows: now, next or before
    runs: bool  # its tunnel is in use
    handshake: float  # when the tunnel was used last, in seconds since 1970; 0: not since the start


class ClientKeys(TypedDict):
    """Whose keys are known, and who waits with one."""

    keys: list[ClientKey]
    waiting: list[WaitingKey]
    by: str  # what the tunnel is made by


class KeyAdmitted(TypedDict):
    """A client's key is admitted."""

    admitted: str
    place: str


class KeyRevoked(TypedDict):
    """A client's key is not heard any more."""

    revoked: str


class KeyRenewal(TypedDict):
    """The server's next key, which clients are told as they come."""

    finished: bool  # the server has it now
    know: list[str]  # clients that know it
    lack: list[str]  # those that do not
    run: list[str]  # those whose tunnel is in use


class TakenAway(TypedDict):
    """A slate that was closed or wiped."""

    done: bool
    error: NotRequired[str]


class Renewed(TypedDict):
    """What roots boot with, and what slates were made on, was read anew."""

    done: bool


class Wrong(TypedDict):
    """A question that was not understood, or may not be asked."""

    error: str


# --- what the commands make of them ---


class NotRunning(TypedDict):
    """No server runs."""

    running: bool


class StatusShown(Status):
    """A server runs."""

    running: bool


class ApplyShown(Compared):
    """What changed for whom, and whether it was taken over."""

    applied: NotRequired[bool]
    said: NotRequired[str]
    servers: NotRequired[dict[str, bool]]  # the others that are alive: whether they have it, too


class ServersShown(TypedDict):
    """The servers of the site."""

    servers: list[ServerRow]
    missing: list[str]  # that were never seen
    away: StoreAway | None


class ServerCompared(TypedDict):
    """What machines get from another server, and not from the one here."""

    changes: list[RunningChange]
