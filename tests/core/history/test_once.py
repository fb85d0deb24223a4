"""Assignments for one boot: when they are used up, and what may still be mounted then."""

from __future__ import annotations

from ipaddress import IPv4Address
from pathlib import Path

import pytest

from daskel.core.boot.identity import roots_of, settings_of
from daskel.core.history.events import Addressed, Event, FileKind, FileSent, Seen, Who
from daskel.core.history.once import Assignments, Once
from daskel.core.site.layers import effective
from daskel.store.database import Store
from daskel.store.reading import read_once
from tests.conftest import DEMO, site_from

WHO = Who("lib-01", "02:61:09:00:00:01")
FIRMWARE, SYSTEM = (Seen(WHO, "library", firmware, "") for firmware in ("x64 UEFI", None))


def sent(path: str, kind: FileKind) -> FileSent:
    return FileSent(WHO, path, kind, 1, 0.1, "tftp")


def given(firmware: bool) -> Addressed:
    return Addressed(WHO, "library", IPv4Address("10.61.9.21"), 60, None, False, firmware)


CONFIG = sent("loader/02:61:09:00:00:01.cfg", FileKind.CONFIGURATION)
KERNEL, INITRD = (sent(f"notebook/{p}", FileKind.KERNEL) for p in ("vmlinuz", "initrd.img"))
OTHER = sent("rescue/vmlinuz", FileKind.KERNEL)
CASES: list[tuple[str, list[Event], bool]] = [  # loadout, what happens, used up
    ("notebook", [FIRMWARE, given(True), CONFIG, KERNEL, INITRD], True),
    ("notebook", [FIRMWARE, given(True), CONFIG, KERNEL], False),
    ("notebook", [CONFIG, INITRD, KERNEL], True),
    ("notebook", [CONFIG, KERNEL, FIRMWARE, CONFIG, INITRD], False),  # reset between the two
    ("notebook", [CONFIG, OTHER, INITRD], False),
    ("notebook", [FIRMWARE, given(True), sent("loader/x.efi", FileKind.UNIFIED)], True),
    ("disk", [FIRMWARE], False),
    ("disk", [FIRMWARE, given(True)], True),
    ("disk", [SYSTEM, given(False)], False),
    ("gone", [FIRMWARE, given(True), CONFIG, KERNEL, INITRD], False),
]


@pytest.mark.parametrize(("boot", "events", "used"), CASES)
def test_when_it_is_used_up(boot: str, events: list[Event], used: bool) -> None:
    site = site_from(DEMO)
    assignments = Assignments(site, [Once("lib-01", boot)])
    kept = [change for event in events if (change := assignments.happened(event)) is not None]
    assert kept == ([[Once("lib-01", boot, running=True)]] if used else [])
    assert ("lib-01" in assignments.assigned.waiting) is not used
    assert assignments.assigned.running == ({"lib-01": boot} if used else {})


def test_it_is_the_strongest_layer_and_goes_over_to_another_site() -> None:
    site = site_from(DEMO)
    assignments = Assignments(site)
    assert effective(site, "lib-01").loadout_name == "catalogue"
    assignments.set("lib-01", "notebook")
    found = effective(site, "lib-01", once=assignments.assigned.waiting["lib-01"])
    assert (
        found.loadout_name == "notebook"
        and found.boot
        and str(found.boot.origin.file) == "assign --once"
    )
    assert ("boot", "catalogue") in {(old.what, old.value) for old in found.overridden}
    other = site_from(DEMO)
    assignments.use(other)
    kept = settings_of(other, WHO, "library", assigned=assignments.assigned)
    assert kept and kept.loadout_name == "notebook"
    assert roots_of(other, WHO, "library", assignments.assigned) == {"notebook"}
    for event in (CONFIG, KERNEL, INITRD):
        assignments.happened(event)
    assert roots_of(other, WHO, "library", assignments.assigned) == {"catalogue", "notebook"}
    assert assignments.happened(FIRMWARE) == [] and not assignments.assigned.running
    assert roots_of(other, WHO, "library", assignments.assigned) == {"catalogue"}


def test_the_store(tmp_path: Path) -> None:
    store = Store(tmp_path / "state.db")
    store.keep_once("lib-01", [Once("lib-01", "rescue")])
    store.keep_once("lib-01", [Once("lib-01", "disk")])
    store.keep_once("lib-02", [Once("lib-02", "rescue", running=True)])
    assert read_once(tmp_path / "state.db") == store.once()
    assert {once.client: once.boot for once in store.once()} == {
        "lib-01": "disk",
        "lib-02": "rescue",
    }
    store.keep_once("lib-01", [])
    assert [once.client for once in store.once()] == ["lib-02"]
    store.close()
