"""Causes while a machine loads: its boot file, what the boot loader asks for, kernel and initrd."""

from __future__ import annotations

from collections.abc import Iterator

from daskel.core.dhcp.needs import Need
from daskel.core.dhcp.pxe import is_uefi
from daskel.core.history.boots import AT_ONCE, Boot, End, fetches, plain
from daskel.core.history.case import Blind, Case, Cause
from daskel.core.history.events import (
    OVER_RAW,
    Abort,
    Addressed,
    FileAborted,
    FileAsked,
    FileKind,
    FileMissing,
    FileSent,
    FileUntold,
    Missed,
    OtherServer,
    Stage,
    Unanswered,
    Unfit,
)
from daskel.core.history.misses import is_shims, searched
from daskel.core.history.outcome import GOOD, Result
from daskel.core.values import counted, show_size

_SAME_START = 60.0  # seconds: between two ways that a firmware tries


def _missing(case: Case) -> Iterator[Cause]:
    """A file that it needs is not there. Nothing of the boot came after it."""
    yield from _found_none(case)
    for at, event in case.boot.of(FileMissing):
        if event.harmless or case.after(at, FileSent) or case.result in GOOD:
            continue
        problem = f"it asked for {event.path} over {event.over}, which it cannot have: "
        problem += event.reason
        remedy = "put it there (daskel files add), or write the right path into the site file"
        if event.near:
            near = ", ".join(event.near)
            remedy = f"there is {near}: perhaps that is meant; write it into the site file"
            if event.over in OVER_RAW:
                remedy += ", in names = {...} of its loadout"
        elif event.over in OVER_RAW and event.why is Missed.NOT_ALLOWED:
            remedy = f"correct its loadout; daskel explain {case.who} shows what it gets"
        elif event.why is Missed.NOT_YOURS:
            remedy = f"daskel files show {event.path} --as {case.who} tells what it would get"
        yield Cause("file-missing", problem, remedy, ((at, event),))
        return


def _found_none(case: Case) -> Iterator[Cause]:
    """U-Boot tries one name after the other, none of which it needs."""
    ways = [b for b in case.before if case.boot.began - b.last < _SAME_START][::-1]
    tried = [
        (at, event)
        for boot in (*ways, case.boot)
        for at, event in boot.of(FileMissing)
        if searched(event.path)
    ]
    paths = list(dict.fromkeys(event.path for _, event in tried))
    others = [fetch for fetch in case.files if fetch.path not in paths]
    if not tried or others or case.result in GOOD or case.stage is not Stage.ADDRESSED:
        return
    more = f" and {counted(len(paths) - 1, 'other name')} of its own" if len(paths) > 1 else ""
    problem = f"it looked for {paths[0]}{more}, and found nothing"
    remedy = (
        "put what it is to start with there, under its first name; Daskel makes that file by "
        "itself for the clients of its site"
    )
    yield Cause("file-missing", problem, remedy, tuple(tried[:1]))


_OVER_HTTP = "until its firmware is corrected it may get the file over HTTP"
_ABORTS = {  # cause, what it means, what to do
    Abort.OPTIONS: ("options-refused", "it does not accept the options of the transfer",
                    _OVER_HTTP),
    Abort.NO_ROOM: ("too-large", "the file does not fit into its memory",
                    "hand out a smaller initrd or kernel, or give the machine more memory"),
    Abort.SILENT: ("link-lost", "it stopped answering in the middle",
                   "look at its cable, its switch port, and whether it was switched off"),
    Abort.CLOSED: ("client-gone", "it broke the connection",
                   "it was probably switched off or reset; look at its screen"),
    Abort.NOT_ALLOWED: ("not-allowed", "it may not deliver that file",
                        "let it with [upload] in the site file, if it is meant to"),
    Abort.BY_SERVER: ("server-failed", "the server could not go on",
                      "look at the file and the disk that it is on"),
    Abort.NO_SIZE: ("size-untold", "firmware that asks for the size (tsize) needs it",
                    "let the TFTP server answer the option tsize (RFC 2349), or use another"),
}  # fmt: skip
_BROKEN_OFF = (
    "aborted", "why cannot be told from what it sent", "look at the machine's screen for more",
)  # fmt: skip


_NOT_ACKNOWLEDGED = (
    "not-acknowledged", "the machine took no more of it",
    "it was switched off, or the image is larger than its memory from load = ... on",
)  # fmt: skip


def _aborted(case: Case) -> Iterator[Cause]:
    for at, event in case.boot.of(FileAborted):
        if case.after(at, FileSent) or case.result in GOOD:
            continue
        cause, meaning, remedy = _ABORTS.get(event.why, _BROKEN_OFF)
        if event.over in OVER_RAW and event.why is Abort.SILENT:
            cause, meaning, remedy = _NOT_ACKNOWLEDGED
        problem = f"{event.path} over {event.over} broke off: {event.reason} ({meaning})"
        yield Cause(cause, problem, remedy, ((at, event),))
        return


def _size_only(case: Case) -> Iterator[Cause]:
    """It asked how large a file is, and did not fetch it."""
    if case.result in GOOD or case.result == Result.UNDER_WAY:
        return
    last = case.files[-1:]
    if not last or last[0].end is not End.SIZED:
        return
    asked, fetch = case.last(FileAsked), last[0]
    assert asked and fetch.size is not None
    problem = f"it asked how large {fetch.path} is ({show_size(fetch.size)}), and did not fetch it"
    remedy = "it is probably too large for this firmware, or not what it expects: " + _LOADER
    yield Cause("size-only", problem, remedy, (asked,))


_LOADER = "daskel explain shows which boot file its firmware gets, and why"


def _no_boot_file(case: Case) -> Iterator[Cause]:
    """It has an address and asked for nothing."""
    addressed = case.last(Addressed)
    if case.stage is not Stage.ADDRESSED or case.result != Result.STUCK or not addressed:
        return
    if case.files or case.last(Unanswered, OtherServer, Unfit):
        return
    firmware = [(at, e) for at, e in case.boot.of(Addressed) if e.firmware]
    if not firmware:
        problem = "it got an address, and is not firmware that wants to boot"
        remedy = "switch on booting from the network in its firmware's settings"
        switched_on = (Blind.DHCP_OPTIONS, Blind.DHCP_ASKED, Blind.START)
        yield Cause("no-netboot", problem, remedy, (addressed,), switched_on)
        return
    addressed = firmware[-1]
    event = addressed[1]
    assert isinstance(event, Addressed)
    if event.boot_file is None:
        problem = "it got an address, and no boot file"
        yield Cause("no-boot-file", problem, _LOADER, (addressed,))
        return
    http = event.boot_file.startswith("http")
    port = "TCP port 80" if http else "UDP port 69"
    beside = event.lease == 0
    problem = f"it got {event.address} and never asked for its boot file {event.boot_file}"
    remedy = (
        f"{port} of this server is not reached (firewall), or "
        + ("the answer on UDP port 4011 is not; " if beside else "")
        + f"its firmware does not take this kind of file; {_LOADER}"
    )
    rests_on: tuple[Blind, ...] = (Blind.HTTP,) if http else (Blind.TFTP,)
    if not event.boot_file:
        rests_on = (Blind.TFTP, Blind.HTTP, Blind.DHCP_OPTIONS)
        problem = f"it got {event.address} and asked for no boot file"
    yield Cause("boot-file-not-asked", problem, remedy, (addressed,), rests_on)


def _loader_stops(case: Case) -> Iterator[Cause]:
    sent = case.last(FileSent)
    if case.stage is not Stage.LOADER or case.result != Result.STUCK or not sent:
        return
    wanted = [fetch for fetch in case.files if not is_shims(fetch.path)]
    if any(fetch.end is not End.SENT for fetch in wanted) or case.last(Unanswered):
        return
    if any(loader_refused(case)) or case.system_came:
        return
    event = sent[1]
    assert isinstance(event, FileSent)
    problem = f"it loaded {event.path} and did not come back for its menu"
    if len(wanted) > 1 and len(wanted) < len(case.files):
        yield Cause("loader-stops", problem, _BY_SHIM, (sent,), (Blind.TFTP, Blind.HTTP))
        return
    unfit = case.last(Unfit)
    if unfit and isinstance(unfit[1], Unfit) and unfit[1].need is Need.HEADER_SERVER:
        remedy = (
            "the boot loader takes the server from the header of the DHCP reply (next server, "
            "siaddr), which is empty: let the DHCP server set it to the boot server"
        )
        yield Cause("no-next-server", problem, remedy, (sent, unfit))
        return
    remedy = "its firmware cannot run this file, or the loader finds no network card; " + _LOADER
    if _is_uefi(case.boot):
        remedy = f"{_SECURE_BOOT}; or {remedy}"
    if event.over == "http":
        remedy += (
            "; over HTTP, and with a name server in the DHCP reply, GRUB has no address, unless it "
            "is Daskel's own image"
        )
    seen_by: tuple[Blind, ...] = (Blind.TFTP,) if event.over == "tftp" else (Blind.HTTP, Blind.TFTP)
    yield Cause("loader-stops", problem, remedy, (sent,), seen_by)


_SECURE_BOOT = (
    "Secure Boot refuses a loader that is not signed: let it have the signed chain "
    "(daskel survey names the packages; then: daskel apply), or switch it off"
)


_OWN_KEY = (
    "Secure Boot refuses an image that is not signed with a key it trusts: enrol the site's "
    "(daskel keys enrol), or switch it off"
)


_BY_SHIM = (
    "shim does not start what nobody signed whom it trusts (a blue screen, Verification failed): "
    "enrol the site's key (daskel keys enrol), or have the signed chain whole"
)


def _is_uefi(boot: Boot) -> bool:
    return boot.architecture is not None and is_uefi(boot.architecture)


def loader_refused(case: Case) -> Iterator[Cause]:
    """Before all else, since it is of the boot before: UEFI firmware that refuses a loader goes on
    to its next way at once; it would not, had the transfer failed."""
    early = (Stage.SEEN, Stage.ADDRESSED, Stage.LOADER, Stage.INITRD)
    if case.result in GOOD or case.stage not in early or not case.before:
        return
    last = case.before[0]
    if last.stage not in early[1:] or not _is_uefi(last):
        return
    if case.boot.began - last.last > AT_ONCE or last.way == case.boot.way:
        return
    got = [f for f in fetches(last) if f.end in (End.SENT, End.UNTOLD)]
    if len(got) != 1 or len(got) != len(fetches(last)) or searched(got[0].path):
        return
    problem = (
        f"its firmware fetched {got[0].path}, did not run it, and went on to its next way to boot "
        f"({case.boot.firmware}) at once"
    )
    why = _OWN_KEY if got[0].kind == FileKind.UNIFIED.value else _SECURE_BOOT
    remedy = f"{why}; or the file is for another processor: {_LOADER}"
    evidence = [(at, event) for at, event in last.of(FileSent, FileUntold)]
    yield Cause("loader-refused", problem, remedy, tuple(evidence[-1:]))


def _kernel_refused(case: Case) -> Iterator[Cause]:
    """A boot loader under Secure Boot, which shim shows by its files, has its kernel and does not
    go on."""
    sent = case.last(FileSent)
    if case.stage is not Stage.KERNEL or case.result != Result.STUCK or not sent:
        return
    shim = any(is_shims(event.path) for _, event in case.boot.of(FileMissing, FileSent, FileAsked))
    kinds = {fetch.kind for fetch in case.files}
    if not shim or FileKind.INITRD.value in kinds:
        return
    problem = "it fetched its kernel by way of shim, and went no further"
    remedy = "Secure Boot refuses a kernel that is not signed (bad shim signature on its screen)"
    yield Cause("kernel-refused", problem, remedy, (sent,), (Blind.DHCP_ASKED,))


def _menu_stops(case: Case) -> Iterator[Cause]:
    sent = case.last(FileSent)
    if case.stage is not Stage.MENU or case.result != Result.STUCK or not sent:
        return
    if any(fetch.end is not End.SENT for fetch in case.files) or case.last(Unanswered):
        return
    if case.system_came:
        return
    problem = "it has its menu, and fetched no kernel"
    remedy = "somebody chose the local disk, an entry waits for its password, or its key is held"
    yield Cause("menu-stops", problem, remedy, (sent,), (Blind.TFTP, Blind.HTTP))


def _kernel_stops(case: Case) -> Iterator[Cause]:
    """Kernel and initrd are there, and nothing was heard of them."""
    if case.stage not in (Stage.KERNEL, Stage.INITRD) or case.result != Result.STUCK:
        return
    if any(
        f.end is not End.SENT for f in case.files if f.kind != FileKind.CONFIGURATION.value
    ) and case.last(FileMissing, FileAborted, Unanswered):
        return
    sent, loaded = case.last(FileSent), case.boot.loaded
    if sent is None or any(loader_refused(case)):
        return
    if isinstance(sent[1], FileSent) and sent[1].kind is FileKind.UNIFIED:
        problem = f"it fetched {sent[1].path}, and nothing was heard of the system since"
        remedy = f"{_OWN_KEY}; or the initrd has no driver for its network card: see its screen"
        yield Cause("kernel-silent", problem, remedy, (sent,), (Blind.DHCP_ASKED,))
        return
    wanted = loaded.initrd if loaded else ()
    fetched = {plain(fetch.path) for fetch in case.files if fetch.end is End.SENT}
    if missing := [path for path in wanted if path not in fetched]:
        problem = f"it fetched its kernel, and not {missing[0]}"
        remedy = "the boot loader ran out of memory, or the machine was reset; look at its screen"
        yield Cause("no-initrd", problem, remedy, (sent,))
        return
    problem = "it fetched kernel and initrd, and nothing was heard of the system since"
    remedy = (
        "the initrd has no driver for its network card, or the kernel does not start on this "
        'machine: see its screen (args = ["console=ttyS0"] for a serial line), and '
        "daskel root inspect"
    )
    yield Cause("kernel-silent", problem, remedy, (sent,), (Blind.DHCP_ASKED,))


LOADING = (
    _missing,
    _aborted,
    _size_only,
    _no_boot_file,
    _loader_stops,
    _menu_stops,
    _kernel_refused,
    _kernel_stops,
)
