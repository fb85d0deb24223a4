"""One file for many at once, as simulated receivers and sockets of the test meet it."""

from __future__ import annotations

import random
import socket
import threading
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from ipaddress import IPv4Address
from pathlib import Path

import pytest

from daskel.core.multicast.datagrams import BLOCK, HEAD
from daskel.rehearse.fetch import BootError, http_ask
from daskel.rehearse.multicast import ManyReceiver
from tests.conftest import Serve, Serving, SiteText

SITE = SiteText("""format = 1
[site]
loaders = []
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
multicast = true
[segment.library]
network = "10.61.9.0/24"
server = "10.61.9.1"
dhcp = "full"
[loadout.live]
kernel = "vmlinuz"
""") + "".join(
    f"""[client.tide-{n:02}]
mac = "02:61:08:00:00:{n:02}"
segment = "tideroom"
boot = "live"
address = "10.61.8.{20 + n}"
""" for n in range(1, 9)
)  # fmt: skip
ROOM = [IPv4Address(f"10.61.8.{20 + n}") for n in range(1, 9)]
STRANGER = IPv4Address("10.61.8.99")
DATA = random.Random(61).randbytes(5_000_001)


@pytest.fixture
def serving(tmp_path: Path, serve: Serve) -> Serving:
    (tmp_path / "files").mkdir()
    (tmp_path / "files/live.img").write_bytes(DATA)
    (tmp_path / "files/vmlinuz").write_bytes(b"kernel")
    (tmp_path / "daskel.toml").write_text(SITE)
    return serve(tmp_path)


def url(serving: Serving, path: str = "live.img") -> str:
    return f"http://10.61.8.1:{serving.wire.ports.http}/{path}"


def received(serving: Serving, machines: list[IPv4Address]) -> list[ManyReceiver]:
    """All at once, each with the whole file."""

    def one(own: IPv4Address) -> ManyReceiver:
        receiver = ManyReceiver(serving.wire, own, url(serving))
        assert b"".join(receiver.pieces()) == DATA
        return receiver

    with ThreadPoolExecutor(len(machines)) as pool:
        return list(pool.map(one, machines))


def test_eight_get_it_with_little_more_than_one_file(serving: Serving) -> None:
    alone = sum(receiver.alone for receiver in received(serving, ROOM))
    told = serving.wait_for("sent-to-all")
    assert (told["path"], told["size"], told["receivers"]) == ("live.img", len(DATA), 8)
    assert told["sent"] + alone < 1.5 * len(DATA)
    sent = [serving.wait_for("file-sent", client=f"tide-{n:02}") for n in range(1, 9)]
    assert {(event["over"], event["size"]) for event in sent} == {("multicast", len(DATA))}


def test_one_alone_is_told_to_fetch_it(serving: Serving) -> None:
    (receiver,) = received(serving, ROOM[:1])
    assert receiver.alone == len(DATA)
    assert serving.wait_for("file-sent")["over"] == "http"


BLOCKS = -(-len(DATA) // BLOCK)
BITS = -(-BLOCKS // 8)  # bytes that say what a receiver has


def test_who_may_ask_for_what(serving: Serving) -> None:
    for method, path, own, body, status in (
        ("GET", "live.img", ROOM[0], b"", 200),
        ("GET", "live.img", STRANGER, b"", 200),  # as over HTTP: files are for all
        ("GET", "absent.img", ROOM[0], b"", 404),
        ("GET", "../daskel.toml", ROOM[0], b"", 403),
        ("GET", "grub/grub.cfg", ROOM[0], b"", 404),  # computed: for each client another one
        ("POST", "live.img", ROOM[0], b"x", 400),
        ("POST", "live.img", ROOM[0], bytes(BITS + 1), 400),
        ("POST", "live.img", ROOM[0], b"\xff" * BITS, 200),
        ("POST", "live.img", STRANGER, b"", 404),  # nobody knows who it is
    ):
        asks = url(serving, f"daskel/multicast/{path}")
        got = http_ask(serving.wire, own, method, asks, body)
        assert got[0] == status, (method, path, own, got)
    asks = url(serving, "daskel/multicast/live.img").replace("10.61.8.1", "10.61.9.1")
    status, told = http_ask(serving.wire, IPv4Address("10.61.9.21"), "GET", asks)
    assert (status, told) == (404, b"this file is not sent to many\n")


def test_what_others_send_ends_nothing(serving: Serving) -> None:
    """Junk on the port of reports; a machine that asks for one file after the other, one that asks
    and goes, one that says that it lost everything: the others get theirs."""
    files = serving.folder / "files"
    for number in range(40):
        (files / f"live-{number}.img").write_bytes(bytes(5000))
    junk = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    target = (serving.wire.outside(IPv4Address("10.61.8.1")), serving.wire.ports.multicast)
    going = threading.Event()

    def greedy(number: int) -> None:
        asks = url(serving, f"daskel/multicast/live-{number}.img")
        with suppress(BootError):
            http_ask(serving.wire, ROOM[7], "POST", asks)

    def silent() -> None:
        asks = url(serving, "daskel/multicast/live.img")
        while not going.wait(0.1):
            http_ask(serving.wire, ROOM[6], "POST", asks)

    def noise() -> None:
        while not going.wait(0.01):
            for data in (b"", b"x" * 2000, b"DSKR" + bytes(12), b"DSKL" + bytes(HEAD)):
                junk.sendto(data, target)

    others = [threading.Thread(target=greedy, args=(number,)) for number in range(40)]
    others += [threading.Thread(target=run) for run in (silent, noise)]
    for thread in others:
        thread.start()
    received(serving, ROOM[:4])
    going.set()
    for thread in others:
        thread.join()
    junk.close()
    assert serving.wait_for("malformed")["service"] == "multicast"
    received(serving, ROOM[:2])
