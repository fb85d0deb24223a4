"""Limits by time, with a clock that is set: nothing here sleeps."""

from __future__ import annotations

import asyncio
import gc
import socket
import threading
import weakref
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address
from pathlib import Path
from typing import cast

import pytest

from daskel.core.boot.wire import Wire
from daskel.core.dhcp.client_messages import Face, discover
from daskel.core.dhcp.packet import serialise
from daskel.core.dhcp.pxe import Firmware
from daskel.core.history.events import Abort, Event, FileMissing, Malformed, Seen, Waits, Who
from daskel.core.history.lobby import Sighting
from daskel.core.mop import messages as mop
from daskel.core.rpl import messages as rpl
from daskel.core.site.layers import segment_name
from daskel.core.site.model import Site
from daskel.service.bus import Bus
from daskel.service.clock import Clock
from daskel.service.dhcp.service import DhcpService
from daskel.service.files.content import Contents
from daskel.service.files.opened import NotOpened
from daskel.service.nfs import keeper
from daskel.service.nfs.channel import pair, send
from daskel.service.nfs.messages import AskVersions, Message, Versions
from daskel.service.raw.mop import MopService
from daskel.service.raw.rpl import RplService
from daskel.service.shared import Shared
from daskel.store.database import Store
from daskel.system.host.confined_open import FilesFolder
from daskel.system.roots.publishing import PublishedFolder
from tests.conftest import DEMO, SERVER, site_from


@dataclass
class ManualClock:
    """Goes on when a test says so."""

    at: float = 1_000_000.0
    set: float = 0.0  # by how much the time of day was changed
    slept: list[float] = field(default_factory=list)

    def time(self) -> float:
        return self.at

    def now(self) -> float:
        return self.at + self.set

    async def sleep(self, seconds: float) -> None:
        self.slept.append(seconds)
        self.at += seconds

    @property
    def clock(self) -> Clock:
        return Clock(self.now, self.time, self.sleep)


@dataclass
class Made:
    shared: Shared
    hand: ManualClock
    events: list[Event]


@pytest.fixture
def made(tmp_path: Path) -> Iterator[Made]:
    (tmp_path / "files").mkdir()
    events: list[Event] = []
    hand = ManualClock()
    shared = Shared(
        site_from(DEMO), Store(tmp_path / "state.db"), FilesFolder(tmp_path / "files"),
        PublishedFolder(tmp_path / "files.published"), tmp_path / "up", Wire(), lambda event, _: events.append(event), hand.clock,
    )  # fmt: skip
    yield Made(shared, hand, events)
    shared.close()


def test_a_clock_that_is_set_ends_no_lease(made: Made, tmp_path: Path) -> None:
    """Forward or back; and one that lost its time does not begin before what was seen last."""
    began = made.shared.lease_time()
    assert began == made.hand.at
    for change in (36_000.0, -36_000.0, 0.0):
        made.hand.set = change
        made.hand.at += 10
        began += 10
        assert made.shared.lease_time() == began
    store = Store(tmp_path / "other.db")
    store.keep_sightings([Sighting("02:61:ff:00:00:01", "tideroom", 0, "", "", 1.0, 5_000_000.0)])
    later = Shared(
        site_from(DEMO), store, FilesFolder(tmp_path / "files"),
        PublishedFolder(tmp_path / "files.published"), tmp_path / "up", Wire(),
        lambda _, __: None, ManualClock().clock,
    )  # fmt: skip
    assert later.lease_time() == 5_000_000.0
    later.close()


def test_what_the_site_says_is_worked_out_ahead(
    made: Made, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Of all clients, a little at a time; anew for another site; a fault with one ends nothing."""
    looked: list[str] = []

    def look(_site: Site, who: Who, _segment: str, **_: object) -> None:
        made.hand.at += 0.0004
        looked.append(str(who.name))
        if who.name == "tide-02":
            raise ValueError("a fault")

    async def ahead() -> None:
        task = asyncio.create_task(made.shared.look_ahead())
        await asyncio.sleep(0.01)
        made.shared.use(site_from(DEMO.replace("tide-03", "tide-33")))
        await asyncio.sleep(0.01)
        task.cancel()

    monkeypatch.setattr("daskel.service.shared.settings_of", look)
    asyncio.run(ahead())
    sites = (site_from(DEMO), made.shared.site)
    assert looked == [n for site in sites for n, c in site.clients.items() if segment_name(site, c)]
    assert set(made.hand.slept) == {0.005}


def test_a_former_site_is_let_go_without_pythons_collector(made: Made) -> None:
    """It is left alone when a site is taken over: what lies in a circle would stay for good."""
    data = serialise(discover(Face.of(Firmware.UEFI), "02:61:08:00:00:01", 1))[0]
    assert made.shared.datagrams.receive(("tideroom",), data, 1.0, unicast=False).reply
    before = weakref.ref(made.shared.site)
    gc.disable()
    try:
        made.shared.use(site_from(DEMO))
        assert before() is None, gc.get_referrers(before())
    finally:
        gc.enable()


def of_strangers(numbers: range) -> list[bytes]:
    macs = (f"02:aa:00:00:{n >> 8:02x}:{n & 255:02x}" for n in numbers)
    return [serialise(discover(Face.of(Firmware.BIOS), mac, 1))[0] for mac in macs]


def test_two_hundred_strangers_a_second(made: Made) -> None:
    service = DhcpService(made.shared, SERVER, cast(socket.socket, _Nowhere()), ("tideroom",))
    waiting: list[bytes] = []
    service._drain = lambda: iter(  # type: ignore[method-assign]
        [_Datagram(data) for data in (waiting.copy(), waiting.clear())[0]]
    )

    def heard(numbers: range, later: float) -> int:
        made.hand.at += later
        waiting.extend(of_strangers(numbers))
        before = sum(isinstance(event, Seen) for event in made.events)
        service._readable()
        return sum(isinstance(event, Seen) for event in made.events) - before

    async def flood() -> list[int]:
        return [
            heard(range(300), 0.0), heard(range(300, 400), 0.0), heard(range(400, 700), 0.5),
            heard(range(700, 1500), 10.0),
        ]  # fmt: skip

    assert asyncio.run(flood()) == [200, 0, 100, 200]
    (said,) = [event for event in made.events if isinstance(event, Malformed)][:1]
    assert said.service == "dhcp" and "more than 200 a second" in said.example


class _Nowhere:
    """A socket whose replies nobody gets."""

    def __getattr__(self, name: str) -> object:
        return lambda *_, **__: 0


@dataclass
class _Datagram:
    data: bytes
    unicast: bool = False
    peer: tuple[str, int] = ("0.0.0.0", 68)


def test_what_is_malformed_is_said_every_ten_seconds(made: Made) -> None:
    for later in (0.0, 1.0, 8.0, 1.5, 0.1):
        made.hand.at += later
        made.shared.malformed("tftp", "too short")
    said = [event.count for event in made.events if isinstance(event, Malformed)]
    assert said == [1, 3]
    made.shared.say_malformed()
    assert [event.count for event in made.events if isinstance(event, Malformed)] == [1, 3, 1]


def test_a_relay_agents_option_that_is_cut_short_is_counted(made: Made) -> None:
    service = DhcpService(made.shared, SERVER, cast(socket.socket, _Nowhere()), ("boathouse",))
    asks = discover(Face.of(Firmware.ARM64), "02:61:0a:00:00:01", 1)
    agent = IPv4Address("10.61.10.1")
    for inside, cut in ((bytes((1, 3)) + b"ge1", False), (bytes((1, 9)) + b"ge1", True)):
        relayed = replace(asks, giaddr=agent, options={**asks.options, 82: inside})
        data = serialise(relayed)[0]
        service._decide(_Datagram(data, peer=(str(agent), 67)))  # type: ignore[arg-type]
        told = [event.example for event in made.events if isinstance(event, Malformed)]
        assert told == (["option 82 of the relay agent 10.61.10.1 is cut short"] if cut else [])


def test_names_are_not_compared_for_each_of_a_flood(made: Made) -> None:
    (made.shared.files.folder / "notebook").mkdir()
    (made.shared.files.folder / "notebook/vmlinuz").touch()
    contents = Contents(made.shared)

    def near() -> tuple[str, ...]:
        who = Who("tide-01", "02:61:08:00:00:01")
        assert isinstance(contents.open("tideroom", b"notebook/vmlinux", who, "tftp"), NotOpened)
        event = made.events[-1]
        assert isinstance(event, FileMissing)
        return event.near

    assert near() == ("notebook/vmlinuz",) and near() == ()
    made.hand.at += 0.1
    assert near() == ("notebook/vmlinuz",)


def test_a_lease_ends(made: Made) -> None:
    answers = made.shared.answers
    message = discover(Face.of(Firmware.BIOS), "02:aa:00:00:00:01", 1)
    offer = answers.dhcp("tideroom", message, made.hand.at, unicast=False).reply
    assert offer
    lease = made.shared.leases.at(offer.yiaddr)
    assert lease and lease.holds(made.hand.at)
    made.hand.at = lease.expires + 1
    assert made.shared.leases.machine_at(offer.yiaddr, made.hand.at) is None
    assert made.shared.caller(SERVER, str(offer.yiaddr))[1] == Who(None, None, offer.yiaddr)


def test_everybody_who_listens_is_told() -> None:
    bus, heard = Bus(), list[str]()

    def fails(_: Seen) -> None:
        raise RuntimeError

    bus.listen(Seen, lambda event: heard.append(f"first {event.segment}"))
    bus.listen(Seen, fails)
    bus.listen(Seen, lambda event: heard.append(f"second {event.segment}"))
    bus.listen(Malformed, lambda event: heard.append(event.service))
    bus.listen(Event, lambda event: heard.append(type(event).__name__))
    bus.tell(Seen(Who(), "tideroom", None, ""))
    assert heard == ["first tideroom", "second tideroom", "Seen"]


def test_the_keeper_ends_quietly_when_the_server_goes_while_it_answers() -> None:
    ours, theirs = pair()

    class Slow(keeper.Keeper):
        def do(self, asked: Message) -> Message:  # noqa: ARG002
            ours.close()  # the server is killed just now
            return Versions(0, ())

    send(ours, AskVersions("/roots", "notebook"), 1)
    failed: list[BaseException] = []

    def run() -> None:
        try:
            keeper.keep(theirs, Slow(shown=False), False)
        except BaseException as error:  # noqa: BLE001 - a fault of ours ends nothing else
            failed.append(error)

    thread = threading.Thread(target=run)
    thread.start()
    thread.join()
    assert not failed
    theirs.close()


def test_nothing_of_the_services_looks_at_the_time_by_itself() -> None:
    """Only the clock does, and what gives a name to a file or a boot of the server."""
    source = Path(__file__).parents[2] / "src/daskel/service"
    direct = [
        str(path.relative_to(source))
        for path in source.rglob("*.py")
        if any(f"time.{name}()" in path.read_text() for name in ("time", "monotonic"))
        or "asyncio.sleep(" in path.read_text()
    ]
    assert sorted(direct) == ["loop.py"]


class _Wire:
    """Frames that are heard and sent in raw Ethernet."""

    own = bytes.fromhex("0261080000fe")

    def __init__(self) -> None:
        self.waiting: list[bytes] = []
        self.sent: list[bytes] = []
        self.send = self.sent.append

    def fileno(self) -> int:
        return -1

    def close(self) -> None:
        pass

    def receive(self) -> bytes:
        if not self.waiting:
            raise BlockingIOError
        return self.waiting.pop(0)


RAW = """
[loadout.old]
raw = "old.sys"
[group.old]
segment = "tideroom"
boot = "old"
"""


@pytest.fixture
def old(made: Made, tmp_path: Path) -> Made:
    """Two hundred machines that ask in raw frames."""
    (tmp_path / "files/old.sys").write_bytes(bytes(100_000))
    clients = (
        f'[client.old-{n}]\nmac = "02:61:ff:00:00:{n:02x}"\ngroup = "old"\n' for n in range(200)
    )
    text = DEMO.replace('lease = "8h"\n', 'lease = "8h"\nraw = true\nunknown = "lobby"\n', 1)
    made.shared.use(site_from(text + RAW + "".join(clients)))
    return made


def mop_asks(source: int, *, to_all: bool, known: bool = True) -> bytes:
    mac = bytes.fromhex(f"0261{'ff' if known else 'aa'}0000{source:02x}")
    frame = mop.Frame(
        mop.LOAD_GROUP if to_all else _Wire.own, mac, mop.Protocol.LOAD, mop.Framing.SNAP,
        mop.request_program(""),
    )  # fmt: skip
    return mop.serialise_frame(frame)


def test_machines_that_ask_by_mop_again_and_again(old: Made) -> None:
    """One gets four answers a second, strangers are looked at twenty times, 128 load at once."""
    wire = _Wire()
    service = MopService(old.shared, wire, ("tideroom",))

    def heard(*frames: bytes) -> int:
        wire.waiting += frames
        wire.sent.clear()
        while wire.waiting:
            service._receive()
        old.hand.at += 2
        return len(wire.sent)

    assert heard(*[mop_asks(1, to_all=True)] * 50) == 4
    assert heard(*[mop_asks(n, to_all=True, known=False) for n in range(100)]) == 0
    assert sum(isinstance(event, Waits) for event in old.events) == 20
    assert heard(*[mop_asks(n, to_all=False) for n in range(200)]) == 128
    assert len(service.under_way) == 128
    assert heard(mop_asks(5, to_all=False)) == 1, "one that begins anew needs no more room"
    for source in list(service._loads):
        service._broken_off(source, "the test is over", Abort.SILENT)
    assert not service.under_way


def test_a_machine_that_asks_for_blocks_by_rpl_over_and_over(old: Made) -> None:
    wire, mac = _Wire(), bytes.fromhex("0261ff000007")
    service = RplService(old.shared, wire, ("tideroom",))
    wire.waiting = [
        rpl.serialise_frame(_Wire.own, mac, rpl.send_file(mac, 0, "TIDEBOARD")) for _ in range(1000)
    ]
    while wire.waiting:
        service._receive()
    assert 8 <= len(wire.sent) <= 300 * 8
    for source in list(service._loads):
        service._end(source)


@pytest.mark.parametrize(
    ("size", "load", "words"),
    [(0, "0x5200", "old.sys is empty"), (100_000, "0xffff0000", "old.sys ends behind 0xffffffff")],
)
def test_an_image_that_cannot_be_sent(
    made: Made, tmp_path: Path, size: int, load: str, words: str
) -> None:
    (tmp_path / "files/old.sys").write_bytes(bytes(size))
    client = '[client.old-1]\nmac = "02:61:ff:00:00:01"\ngroup = "old"\n'
    text = DEMO.replace('lease = "8h"\n', 'lease = "8h"\nraw = true\n', 1)
    raw = RAW.replace('"old.sys"', f'"old.sys"\nload = {load}')
    made.shared.use(site_from(text + raw + client))
    wire = _Wire()
    service = MopService(made.shared, wire, ("tideroom",))
    wire.waiting = [mop_asks(1, to_all=True)]
    service._receive()
    assert not wire.sent
    assert [e.reason for e in made.events if isinstance(e, FileMissing)] == [words]
