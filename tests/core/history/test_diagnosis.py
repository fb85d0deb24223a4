"""Every cause by the events that show it, boots put together from events, and events as JSON."""

from __future__ import annotations

import json
from dataclasses import replace
from ipaddress import IPv4Address
from itertools import count

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.history.aborts import abort_by, abort_of
from daskel.core.history.boots import Boot, History, as_row, fetches, from_row
from daskel.core.history.case import Case
from daskel.core.history.diagnosis import diagnose
from daskel.core.history.encoding import as_json, from_json
from daskel.core.history.events import (
    Abort,
    Addressed,
    Event,
    FileAborted,
    FileAsked,
    FileKind,
    FileMissing,
    FileSent,
    FileSized,
    GivenBack,
    ImageFailure,
    ImageStep,
    ImageTold,
    Loaded,
    Missed,
    Mounted,
    MountRefusal,
    MountRefused,
    OtherServer,
    RawAsked,
    RawTrouble,
    Refusal,
    Refused,
    RootTrouble,
    Seen,
    Service,
    Stage,
    Told,
    Trouble,
    Unanswered,
    Up,
    Waits,
    Who,
)
from daskel.core.history.outcome import Result, result, waits_for
from daskel.core.tftp.ending import Ending, Failure

MAC, OWN = "02:61:08:00:00:04", IPv4Address("10.61.8.24")
OTHER, SERVER = IPv4Address("10.61.8.250"), IPv4Address("10.61.8.1")
WHO = Who("tide-04", MAC, OWN)
BIOS = "x86 BIOS"
LINE = "root=/dev/nfs nfsroot=10.61.8.1:/roots/notebook,v3,tcp quiet"
LOADED = Loaded("notebook", "notebook/vmlinuz", ("notebook/initrd.img",), LINE, "notebook")
SEEN = Seen(WHO, "tideroom", BIOS, "PXEClient", 0, "", "", OWN)
ADDRESSED = Addressed(WHO, "tideroom", OWN, 28800, "loader/bios.img", False, True)


def sent(path: str, kind: FileKind, size: int = 1000, resent: int = 0) -> list[Event]:
    asked = FileAsked(WHO, path, kind, size, "tftp")
    return [asked, FileSent(WHO, path, kind, size, 0.5, "tftp", resent)]


LOADER = [SEEN, ADDRESSED, *sent("loader/bios.img", FileKind.LOADER)]
MENU = [*LOADER, Told(WHO, (LOADED,)), *sent(f"loader/{MAC}.cfg", FileKind.CONFIGURATION)]
KERNEL = [*MENU, *sent("notebook/vmlinuz", FileKind.KERNEL, 14_000_000)]
INITRD = [*KERNEL, *sent("notebook/initrd.img", FileKind.INITRD)]
SYSTEM = [Seen(WHO, "tideroom", None, "udhcp"), replace(ADDRESSED, boot_file=None, firmware=False)]
RUNNING = [*INITRD, *SYSTEM]
ROOT = [*RUNNING, Mounted(WHO, "notebook")]
UP = [*ROOT, Up(WHO, 12.0, "6.1.0", LINE)]
RAW = [Seen(WHO, "tideroom", "MOP, DELQA or DESQA", "MOP", over="MOP", asks="a system")]
RAW_TOLD = Told(WHO, (Loaded("old", "old/wwng.sys", (), "", None),))
RAW_ASKED = FileAsked(WHO, "old/wwng.sys", FileKind.KERNEL, 70_000, "MOP")
RAW_SENT = FileSent(WHO, "old/wwng.sys", FileKind.KERNEL, 70_000, 1.0, "MOP")
KERNEL_ASKED = FileAsked(WHO, "notebook/vmlinuz", FileKind.KERNEL, 14_000_000, "tftp")


SHIMS = FileMissing(WHO, "own/revocations_sku.efi", "tftp", "no such file", True)
BY_SHIM = [
    SEEN, ADDRESSED, *sent("own/start.efi", FileKind.LOADER), SHIMS,
    *sent("own/second.efi", FileKind.LOADER),
]  # fmt: skip
UNIFIED = [SEEN, ADDRESSED, *sent("loader/tide-04.efi", FileKind.UNIFIED, 20_000_000)]


def aborted(why: Abort, reason: str = "in its own words") -> list[Event]:
    return [*MENU, KERNEL_ASKED, FileAborted(WHO, "notebook/vmlinuz", "tftp", reason, why)]


CAUSES: list[tuple[str, list[Event], list[str]]] = [  # cause, events, words of problem and remedy
    ("lobby", [Seen(WHO, "tideroom", BIOS, ""), Waits(WHO, "tideroom")], ["lobby admit"]),
    ("refused", [SEEN, Refused(WHO, "tideroom", "refused by daskel.toml:7:3 (02:61)", Refusal.LISTED)],
     ["daskel.toml:7:3"]),
    ("other-server", [SEEN, OtherServer(WHO, "tideroom", OTHER, "gave its address")],
     ["10.61.8.250", "survey --wire"]),
    ("address-in-use", [SEEN, GivenBack(WHO, "tideroom", OWN, True)], ["10.61.8.24"]),
    ("offer-not-taken", [SEEN, SEEN], ["10.61.8.24", "2 times"]),
    ("no-offer", [replace(SEEN, offered=None)], ["DHCP server"]),
    ("dhcp-silent", [replace(SEEN, offered=None), Unanswered(WHO, Service.DHCP, "", None, 4)],
     ["nobody answered", "asked 4 times"]),
    ("request-silent", [SEEN, Unanswered(WHO, Service.REQUEST, "10.61.8.24", SERVER, 3)],
     ["10.61.8.24", "leases"]),
    ("pxe-port-silent", [SEEN, ADDRESSED, Unanswered(WHO, Service.PXE, "", OTHER, 4)],
     ["10.61.8.250 did not answer", "4011"]),
    ("tftp-blocked", [SEEN, ADDRESSED, Unanswered(WHO, Service.TFTP, "loader/bios.img", SERVER, 6)],
     ["10.61.8.1 did not answer", "port 69"]),
    ("tftp-blocked", [SEEN, ADDRESSED, Unanswered(WHO, Service.TFTP, "x", SERVER, 1, True)],
     ["10.61.8.1 refused", "nothing listens there"]),
    ("http-blocked", [SEEN, ADDRESSED, Unanswered(WHO, Service.HTTP, "TCP port 80", SERVER, 3)], []),
    ("nfs-blocked", [*RUNNING, Unanswered(WHO, Service.NFS, "TCP port 2049", SERVER, 5)], ["nfsroot="]),
    ("portmap-blocked", [*RUNNING, Unanswered(WHO, Service.PORTMAP, "TCP port 111", SERVER, 5)], ["111"]),
    ("boot-file-not-asked", [SEEN, ADDRESSED], ["loader/bios.img", "UDP port 69"]),
    ("boot-file-not-asked", [SEEN, replace(ADDRESSED, boot_file="http://10.61.8.1/x", lease=0)],
     ["TCP port 80", "UDP port 4011"]),
    ("no-netboot", [Seen(WHO, "tideroom", None, ""), replace(ADDRESSED, firmware=False)],
     ["firmware's settings"]),
    ("loader-stops", LOADER, ["loader/bios.img"]),
    ("loader-stops", BY_SHIM, ["second.efi", "Verification failed", "keys enrol"]),
    ("kernel-silent", UNIFIED, ["tide-04.efi", "keys enrol", "driver"]),
    ("menu-stops", MENU, ["no kernel"]),
    ("file-missing", [*MENU, FileMissing(
        WHO, "notebook/vmlinux", "tftp", "no such file", near=("notebook/vmlinuz",))],
     ["notebook/vmlinux ", "there is notebook/vmlinuz"]),
    ("file-missing", [*MENU, FileMissing(WHO, "x", "tftp", "not for it", why=Missed.NOT_YOURS)],
     ["files show x --as tide-04"]),
    ("refused", [SEEN, Refused(WHO, "tideroom", "none for it", Refusal.NO_BOOT_FILE)],
     ["daskel explain tide-04"]),
    ("too-large", aborted(Abort.NO_ROOM), ["smaller initrd"]),
    ("options-refused", aborted(Abort.OPTIONS), ["options"]),
    ("link-lost", aborted(Abort.SILENT), ["cable"]),
    ("client-gone", aborted(Abort.CLOSED), ["switched off"]),
    ("aborted", aborted(Abort.BY_CLIENT, "out of memory"), ["cannot be told"]),
    ("not-allowed", aborted(Abort.NOT_ALLOWED), ["[upload]"]),
    ("server-failed", aborted(Abort.BY_SERVER), ["disk"]),
    ("size-only", [SEEN, ADDRESSED, KERNEL_ASKED, FileSized(WHO, "notebook/vmlinuz", "tftp")],
     ["14.0 MB"]),
    ("no-initrd", KERNEL, ["notebook/initrd.img", "memory"]),
    ("kernel-silent", INITRD, ["driver"]),
    ("no-mount", RUNNING, ["nfsroot=10.61.8.1:/roots/notebook"]),
    ("mount-refused", [*RUNNING, MountRefused(WHO, "/roots/other", "there is no such root")],
     ["/roots/other", "nfsroot=10.61.8.1:/roots/notebook"]),
    ("mount-refused", [*RUNNING, MountRefused(WHO, "", "not as it asks", MountRefusal.VERSION)],
     ["nfsvers=3"]),
    *((f"image-{why.value}",
       [*RUNNING, ImageTold(WHO, ImageStep.FAILED, why, "as it says"), ImageTold(WHO, ImageStep.FETCHING)],
       ["as it says"]) for why in ImageFailure),
    ("connection-lost", [*ROOT, ImageTold(WHO, ImageStep.RECONNECTED, seconds=45.0)], ["for 45 s"]),
    ("slate-full", [*ROOT, RootTrouble(WHO, Trouble.FULL, "notebook")], ["slate show tide-04"]),
    ("stale", [*UP, RootTrouble(WHO, Trouble.STALE, "notebook")], ["start it again"]),
    ("differs", [*ROOT, Up(WHO, 9.0, "6.1.0", f"BOOT_IMAGE=x {LINE.replace('quiet', 'single')}")],
     ["without quiet and with single"]),
    ("file-missing", [*RAW, FileMissing(WHO, "WWNG2", "MOP", "no such file", near=("old/wwng.sys",))],
     ["WWNG2", "there is old/wwng.sys", "names"]),
    ("file-missing", [*RAW, FileMissing(WHO, "a system", "MOP", "its loadout disk has no raw = ...",
                                        why=Missed.NOT_ALLOWED)], ["explain tide-04"]),
    ("not-acknowledged", [*RAW, RAW_TOLD, RAW_ASKED, FileAborted(
        WHO, "old/wwng.sys", "MOP", "block 3 was never acknowledged", Abort.SILENT)], ["block 3"]),
    *((cause, [RawAsked(WHO, "MOP", "a system", trouble=trouble, by="02:61:08:00:00:fe", **more)], words)
      for trouble, cause, more, words in (
          (RawTrouble.SILENT, "raw-silent", {"times": 4}, ["4 requests", "raw = true"]),
          (RawTrouble.FRAMING, "raw-framing", {}, ["02:61:08:00:00:fe", "another framing"]),
          (RawTrouble.TOO_LARGE, "raw-too-large", {"block": 2, "size": 1100}, ["block 2", "1100 bytes"]),
          (RawTrouble.NOT_ACKNOWLEDGED, "not-acknowledged", {"block": 7}, ["block 7"]),
          (RawTrouble.NOT_SENT, "raw-not-sent", {"block": 3}, ["block 3", "repeats"]),
          (RawTrouble.AGAIN, "loads-again", {"loaded": True, "seconds": 2.5}, ["2.50 s", "load or start"]),
      )),
    ("packets-lost", [*MENU, *sent("notebook/vmlinuz", FileKind.KERNEL, 1_400_000, 60),
                      *sent("notebook/initrd.img", FileKind.INITRD), *SYSTEM,
                      Mounted(WHO, "notebook")], ["60 packets", "6%"]),
]  # fmt: skip


def boot_of(events: list[Event], began: float = 1000.0, pause: float = 1.0) -> Boot:
    boot = Boot(1, MAC, "tide-04", began)
    for number, event in enumerate(events):
        boot.add(began + number * pause, event)
    return boot


@pytest.mark.parametrize(("cause", "events", "words"), CAUSES)
def test_cause(cause: str, events: list[Event], words: list[str]) -> None:
    found = diagnose(Case(boot_of(events), float("inf")))
    assert [one.cause for one in found][:1] == [cause], found
    text = f"{found[0].problem} {found[0].remedy}"
    assert all(word in text for word in words), text
    assert found[0].evidence


@pytest.mark.parametrize(
    ("events", "how"),
    [
        (UP, Result.UP),
        (ROOT, Result.ROOT),
        ([SEEN, replace(ADDRESSED, boot_file=None)], Result.LOCAL),
    ],
)
def test_a_good_boot_has_no_cause(events: list[Event], how: str) -> None:
    boot = boot_of(events)
    assert (result(boot, float("inf")), diagnose(Case(boot, float("inf")))) == (how, [])


def test_what_is_under_way_is_not_stuck_yet() -> None:
    boot = boot_of([*MENU, KERNEL_ASKED])
    assert result(boot, boot.last + 500) == Result.UNDER_WAY  # the file is being sent
    assert waits_for(boot) == "fetches notebook/vmlinuz"
    assert result(boot_of(INITRD), 1000 + len(INITRD) + 100) == Result.UNDER_WAY
    assert result(boot_of(INITRD), 1000 + len(INITRD) + 200) == Result.STUCK


def test_an_image_that_came_was_asked_for() -> None:
    """What became of it is not known when its initrd tells nothing: no wrong cause."""
    line = LINE.replace("root=/dev/nfs", "boot=daskel daskel.root=http://10.61.8.1/root.img")
    told = Told(WHO, (replace(LOADED, arguments=line),))
    events = [told if isinstance(event, Told) else event for event in RUNNING]
    silent = [*events, *sent("published/notebook/1/root.img", FileKind.IMAGE)]
    for found, causes in ((events, ["no-mount"]), (silent, [])):
        assert [one.cause for one in diagnose(Case(boot_of(found), float("inf")))] == causes


def test_a_loadout_without_a_root_runs_from_memory() -> None:
    told = Told(WHO, (replace(LOADED, root=None),))
    events = [told if isinstance(event, Told) else event for event in INITRD]
    assert result(boot_of(events), float("inf")) == Result.RUNNING


def test_a_machine_that_starts_over_again_and_again() -> None:
    boots = [boot_of(INITRD, began) for began in (1300.0, 1200.0, 1100.0)]
    found = diagnose(Case(boots[0], float("inf"), boots[1:]))
    assert [one.cause for one in found] == ["kernel-silent", "starts-over"]
    assert "3 times" in found[1].problem


def test_a_machine_that_is_loaded_in_raw_frames_and_asks_again() -> None:
    """At once: what it got does not run. After days: somebody switched it on."""
    events = [*RAW, RAW_TOLD, RAW_ASKED, RAW_SENT]
    for pause, said in ((10.0, ["loads-again"]), (100_000.0, [])):
        boots = [boot_of(events, 1000.0 + pause * n) for n in (2, 1, 0)]
        found = diagnose(Case(boots[0], boots[0].last + 5, boots[1:]))
        assert [one.cause for one in found if one.stops] == said
        assert not said or "loaded 2 times" in found[0].problem
        later = diagnose(Case(boots[0], boots[0].last + 500, boots[1:]))
        assert not any(one.stops for one in later), "it runs by now"


@pytest.mark.parametrize(
    ("following", "refused"),
    [
        (replace(SEEN, firmware="x64 UEFI HTTP", architecture=16), True),
        (replace(SEEN, firmware="x64 UEFI, IPv6", architecture=7, ipv6=True), True),
        (replace(SEEN, firmware="x64 UEFI", architecture=7), False),  # it has begun again
    ],
)
@pytest.mark.parametrize(("way", "remedy"), [(LOADER, "signed chain"), (UNIFIED, "keys enrol")])
def test_firmware_that_goes_on_to_its_next_way(
    following: Seen, refused: bool, way: list[Event], remedy: str
) -> None:
    first = replace(SEEN, firmware="x64 UEFI", architecture=7)
    before = boot_of([first, *way[1:]], pause=0.1)
    for events in ([following], [following, *way[1:]]):  # it may fetch the same again
        boot = boot_of(events, began=before.last + 0.5)
        found = diagnose(Case(boot, float("inf"), [before]))
        told = [cause for cause in found if cause.cause == "loader-refused"]
        assert bool(told) is refused and all(remedy in cause.remedy for cause in told)
        assert not refused or found[0] is told[0], "it is what watch shows"


def test_the_boot_that_firmware_left_is_remembered() -> None:
    """For who looks at it now; what was longer ago is in the store."""
    other = replace(SEEN, firmware="x64 UEFI HTTP", architecture=16)
    for pause, remembered in ((1.0, 1), (60.0, 0)):
        history = History()
        for number, event in enumerate([replace(SEEN, architecture=7), *LOADER[1:]]):
            history.happened(1000.0 + number, event)
        boot = history.happened(1000.0 + len(LOADER) - 1 + pause, other)
        assert boot and len(history.before(boot)) == remembered


def test_much_slower_than_its_neighbours() -> None:
    beside = [boot_of(ROOT) for _ in range(3)]
    found = diagnose(Case(boot_of(ROOT, pause=40), float("inf"), (), beside))
    assert [one.cause for one in found] == ["slow"]


def test_history_begins_a_boot_with_the_firmware_and_goes_on_with_the_same_try() -> None:
    history = History(count(7))
    for at, event in enumerate([SEEN, SEEN, *INITRD[1:], *SYSTEM]):
        history.happened(at, event)
    assert history.current[MAC].number == 7 and history.current[MAC].stage is Stage.RUNNING
    history.happened(100, SEEN)
    assert history.current[MAC].number == 8 and history.current[MAC].stage is Stage.SEEN
    assert [boot.number for boot in history.changed(100.5)] == [7]  # the other goes on just now
    assert [boot.number for boot in history.changed(101.0)] == [8]
    assert history.changed() == []


def test_a_system_that_renews_its_lease_for_months() -> None:
    history = History()
    for number, event in enumerate([*UP, *[SYSTEM[1]] * 1000]):
        history.happened(1000.0 * number, event)
    boot = history.current[MAC]
    assert len(boot.events) < 60 and boot.stage is Stage.UP and history.changed() == [boot]
    history.happened(2e6, SYSTEM[1])
    assert history.changed() == []


def test_machines_that_are_nobodys_cannot_fill_the_memory() -> None:
    history = History()
    for number in range(2000):
        mac = f"06:00:00:00:{number >> 8:02x}:{number & 255:02x}"
        history.happened(number, Seen(Who(None, mac), "tideroom", BIOS, ""))
    assert len(history.current) == 500


@given(st.lists(st.tuples(st.integers(0, 3), st.integers(1, 60), st.integers(0, 5)), max_size=30))
def test_what_happened_since_a_time_is_found_from_the_end(
    steps: list[tuple[int, int, int]],
) -> None:
    """Also of a machine whose DHCP is too much to be kept."""
    history, now = History(), 0
    for number, times, later in steps:
        who = Who(f"tide-0{number}", f"02:61:08:00:00:0{number}")
        for _ in range(times):
            history.happened(now, replace(ADDRESSED, who=who))
        now += later
    for at in range(now + 2):
        expected = {boot.mac for boot in history.current.values() if boot.last >= at}
        assert {boot.mac for boot in history.since(at)} == expected


def test_files_in_order_with_what_became_of_them() -> None:
    boot = boot_of([
        SEEN, ADDRESSED, FileAsked(WHO, "a", FileKind.LOADER, 5, "tftp"), FileSized(WHO, "a", "tftp"),
        *sent("a", FileKind.LOADER, 5), FileMissing(WHO, "b", "tftp", "no such file"), KERNEL_ASKED,
    ])  # fmt: skip
    assert [(f.path, f.how) for f in fetches(boot)] == [
        ("a", "sent"), ("b", "not there: no such file"), ("notebook/vmlinuz", "under way"),
    ]  # fmt: skip


def test_what_is_kept_of_a_boot_is_the_same_boot_again() -> None:
    several = [[*UP, *aborted(Abort.CLOSED), RootTrouble(WHO, Trouble.FULL, "notebook")]]
    for events in several + [events for _, events, _ in CAUSES]:
        boot = boot_of(events)
        assert from_row(json.loads(json.dumps(as_row(boot)))) == boot
    assert from_json({"event": "of-another-version"}) is None
    assert from_json({**as_json(SEEN), "from": "nowhere"}) is None


MISLEADING = "port memory option version boot loader not in silent full; there is another client"


@pytest.mark.parametrize(("_cause", "events", "_words"), CAUSES)
def test_words_for_people_decide_nothing(
    _cause: str, events: list[Event], _words: list[str]
) -> None:
    """Whatever the text of an event says, the cause follows from its other fields."""
    told = [replace(e, reason=MISLEADING) if hasattr(e, "reason") else e for e in events]
    found = diagnose(Case(boot_of(told), 100_000.0))
    assert [one.cause for one in found] == [
        one.cause for one in diagnose(Case(boot_of(events), 100_000.0))
    ]


NUMBERS = [  # a client's error number, blocks that it had, and what that tells
    (0, 0, Abort.BY_CLIENT), (0, 9, Abort.BY_CLIENT), (3, 9, Abort.NO_ROOM),
    (8, 0, Abort.OPTIONS), (8, 9, Abort.BY_CLIENT), (None, 0, Abort.BY_CLIENT),
    (99, 0, Abort.BY_CLIENT),
]  # fmt: skip


@pytest.mark.parametrize(("code", "blocks", "expected"), NUMBERS)
def test_what_a_clients_error_number_tells(code: int | None, blocks: int, expected: Abort) -> None:
    assert abort_by(code, blocks) is expected


def test_every_ending_of_a_transfer_is_told() -> None:
    told = {abort_of(Failure(ending, "x"), 1) for ending in Ending}
    assert Abort.UNTOLD not in told
