"""The fluid model by hand-made cases, and the phases of real machines."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.forecast.model import Own, Phase, Resource, forecast
from daskel.core.forecast.room import (
    Experience,
    Kind,
    Load,
    assumptions,
    capacities,
    leaders,
    pace,
    phases,
)
from daskel.core.history.events import Stage
from daskel.core.multicast.transmission import least_time
from tests.core.history.test_diagnosis import ROOT, RUNNING, boot_of

LINK, SERVER, PROCESSORS = Resource.LINK, Resource.SERVER, Resource.PROCESSORS


def fetch(seconds: float = 1.0, size: float = 0.0, busy: float = 0.0) -> Phase:
    return Phase("kernel", seconds, Own.TRIPS, {LINK: size, SERVER: busy, PROCESSORS: busy})


CASES = [  # clients, starts, capacities, seconds of each, what limits them
    ([[fetch()]], [0.0], {}, [1.0], Own.TRIPS),
    ([[fetch(1, 100)]] * 2, [0, 0], {LINK: 1000.0}, [1.0, 1.0], Own.TRIPS),
    ([[fetch(1, 100)]] * 4, [0, 0, 0, 0], {LINK: 100.0}, [4.0] * 4, LINK),
    ([[fetch(1, 0, 0.5)]] * 10, [0] * 10, {SERVER: 1.0}, [5.0] * 10, SERVER),
    ([[fetch(1, 0, 0.5)]] * 10, [0] * 10, {PROCESSORS: 2.0}, [2.5] * 10, PROCESSORS),
    # the first has the link alone for half of its time
    ([[fetch(1, 100)]] * 2, [0.0, 0.5], {LINK: 100.0}, [1.5, 2.0], LINK),
    # one that needs no link is not held by it
    ([[fetch(1, 100)], [fetch(1, 100)], [fetch(1)]], [0, 0, 0], {LINK: 100.0}, [2, 2, 1], LINK),
    ([[]], [0.0], {LINK: 1.0}, [0.0], None),
]


@pytest.mark.parametrize(("clients", "starts", "capacity", "seconds", "limit"), CASES)
def test_shared(clients, starts, capacity, seconds, limit) -> None:  # type: ignore[no-untyped-def]
    found = forecast(clients, starts, capacity)
    assert found.whole == pytest.approx(seconds, rel=1e-6)
    assert found.slowest == (("kernel", limit) if limit else None)


def test_phases_follow_each_other() -> None:
    one = [fetch(1.0), Phase("root", 2.0, Own.SYSTEM)]
    (ends,) = forecast([one], [1.0], {}).ends
    assert ends == pytest.approx({"kernel": 2.0, "root": 4.0})


@given(
    st.lists(
        st.tuples(st.floats(0.01, 5), st.floats(0, 50), st.floats(0, 2)), min_size=1, max_size=12
    ),
    st.floats(1, 200),
)
def test_nobody_is_faster_than_alone_nor_all_than_the_link(
    needs: list[tuple[float, float, float]], link: float
) -> None:
    clients = [[fetch(*one)] for one in needs]
    whole = forecast(clients, [0.0] * len(needs), {LINK: link, SERVER: 1.0}).whole
    assert all(took >= one[0] - 1e-6 for took, one in zip(whole, needs, strict=True))
    assert max(whole) >= sum(one[1] for one in needs) / link - 1e-6
    assert max(whole) >= sum(one[2] for one in needs) - 1e-6


LOADS = [
    Load("addressed", 0, 0.001, 0.002), Load("loader", 40_000, 0.001, 0.001),
    Load("menu", 700, 0.001, 0.001), Load("kernel", 10_000_000, 0.05, 0.05),
    Load("initrd", 30_000_000, 0.15, 0.15), Load("running kernel", 0, 0.001, 0.001),
    Load("root", 100_000, 0.0, 0.01),
]  # fmt: skip


def room(count: int, link: float, firmware: str = "bios", waits: float = 0.0):  # type: ignore[no-untyped-def]
    kind = Kind(firmware, "notebook", LOADS, waits)
    clients = [phases(kind, Experience(), first=n == 0) for n in range(count)]
    return forecast(clients, [0.0] * count, capacities(link, 2.0))


def test_a_room_by_the_table_of_firmware() -> None:
    """One machine waits for itself; many for the link, or for the server."""
    alone = room(1, 125e6)
    assert alone.limit("kernel") is Own.TRIPS and alone.limit("seen") is Own.FIRMWARE
    assert alone.whole[0] > pace("bios").power_on
    assert room(40, 12.5e6).limit("initrd") is LINK
    assert room(200, 1e12).limit("initrd") is SERVER
    assert max(room(40, 12.5e6).whole) > 40 * 40e6 / 12.5e6
    assert room(1, 125e6, "uefi-x64-http").whole[0] < room(1, 125e6, "uefi-x64").whole[0]
    assert room(1, 125e6, waits=60.0).limit("kernel") is Own.PEOPLE


def test_what_is_sent_to_many_passes_the_link_once() -> None:
    """Forty that come together, and two that come a minute later."""
    loads = [Load("initrd", 1_000_000, 0.0, 0.0), Load("root", 100_000_000, 0.0, 0.0, once=True)]
    kind = Kind("bios", "notebook", loads)
    starts = [0.0] * 40 + [60.0, 61.0]
    leading = leaders([kind] * 42, starts, 125e6)
    assert [n for n, leads in enumerate(leading) if leads] == [0, 40]
    clients = [phases(kind, Experience(), first=False, leads=leads) for leads in leading]
    whole = forecast(clients, starts, capacities(125e6, 2.0)).whole
    alone = forecast(clients[:1], [0.0], capacities(125e6, 2.0)).whole[0]
    assert max(whole[:40]) < alone + 3 and max(whole) < 60 + alone + 5
    assert 2.0 + 100e6 / 125e6 < least_time(100_000_000, 125e6) < 2.0 + 100e6 / 30e6


def test_boots_that_are_kept_come_before_the_table() -> None:
    kind = Kind("bios", "notebook", LOADS)
    boots = [boot_of(ROOT, pause=pause) for pause in (9.0, 3.0, 6.0)]
    known = Experience.of([*boots, boot_of(RUNNING, pause=0.1)])  # one did not come up
    took = {phase.stage: phase.seconds for phase in phases(kind, known, first=False)}
    assert took["running kernel"] == boots[1].durations[Stage.INITRD] > 0
    assert any("3 good boots" in line for line in assumptions([kind], known, 125e6))
    assert not Experience.of(boots).like(replace(kind, firmware="uefi-x64"))
    assert not Experience.of(boots[:1]).like(kind)
    assert any("by a table" in line for line in assumptions([kind], Experience(), 125e6))
