"""How far a boot has come after each event."""

from __future__ import annotations

from ipaddress import IPv4Address

import pytest

from daskel.core.history import events, stages
from daskel.core.history.events import (
    Addressed,
    Event,
    FileKind,
    FileMissing,
    FileSent,
    Mounted,
    Refused,
    Seen,
    Stage,
    Who,
)
from daskel.core.history.stages import stage_after

WHO = Who("tide-01", "02:61:08:00:00:01")
FIRMWARE, SYSTEM = (
    Seen(WHO, "tideroom", "x86 BIOS", "PXEClient"),
    Seen(WHO, "tideroom", None, "udhcp"),
)
ACK = Addressed(WHO, "tideroom", IPv4Address("10.61.8.21"), 60, None, False)


def sent(kind: FileKind) -> FileSent:
    return FileSent(WHO, "x", kind, 1, 0.1, "tftp")


BOOTS: list[tuple[list[Event], Stage | None]] = [
    ([FileMissing(WHO, "x", "tftp", "")], None),
    ([FIRMWARE], Stage.SEEN),
    ([FIRMWARE, ACK], Stage.ADDRESSED),
    ([FIRMWARE, ACK, sent(FileKind.LOADER)], Stage.LOADER),
    ([FIRMWARE, ACK, sent(FileKind.LOADER), sent(FileKind.OTHER)], Stage.LOADER),
    ([FIRMWARE, ACK, sent(FileKind.INITRD), ACK], Stage.INITRD),
    ([FIRMWARE, ACK, sent(FileKind.KERNEL), SYSTEM, ACK], Stage.RUNNING),
    ([FIRMWARE, ACK, sent(FileKind.LOADER), SYSTEM, ACK], Stage.LOADER),
    ([FIRMWARE, ACK, sent(FileKind.KERNEL), SYSTEM, ACK, Mounted(WHO, "r")], Stage.ROOT),
    ([Mounted(WHO, "r"), FIRMWARE], Stage.SEEN),
    ([SYSTEM], Stage.SEEN),
    ([FIRMWARE, Refused(WHO, "tideroom", "x")], Stage.REFUSED),
    ([FIRMWARE, ACK, Refused(WHO, "tideroom", "x")], Stage.ADDRESSED),
]


@pytest.mark.parametrize(("events", "stage"), BOOTS)
def test_stages(events: list[Event], stage: Stage | None) -> None:
    reached: Stage | None = None
    for event in events:
        reached = stage_after(reached, event)
    assert reached is stage


def test_every_kind_of_event_is_in_the_table() -> None:
    kinds = [kind for kind in vars(events).values() if isinstance(kind, type)]
    assert set(stages._AFTER) == {k for k in kinds if issubclass(k, Event) and k is not Event}
