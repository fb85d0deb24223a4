"""One cheap machine against a whole server: afterwards, and meanwhile, a client still boots."""

from __future__ import annotations

import os
import random
import signal
import socket
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, suppress
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

import pytest

from daskel.core.dhcp.client_messages import SYSTEM, Face
from daskel.core.dhcp.pxe import Firmware
from daskel.core.nfs import calls, mount, nfs3
from daskel.core.nfs.nfs3 import Procedure
from daskel.core.nfs.rpc import mark, serialise_call
from daskel.core.nfs.xdr import pack_opaque
from daskel.core.tftp.packet import Opcode, Request
from daskel.rehearse.fetch import NfsRoot, from_reserved_port, get_address, http_get, tftp_get
from tests.conftest import PATIENCE, SERVER, Serve, Serving, SiteText, until
from tests.hostile.conftest import Figure

ROUNDS = int(os.environ.get("HOSTILE", "1"))  # how many times as much: `make hostile`
TIDE, MAC = IPv4Address("10.61.8.21"), "02:61:08:00:00:01"
BIOS = Face.of(Firmware.BIOS)
SITE = SiteText("""format = 1
[site]
roots = "roots"
slates = "slates"
state = "state.db"
loaders = []
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
pool = ["10.61.8.100 - 10.61.8.199"]
unknown = "notebook"
[root.notebook]
slate = "keep"
[loadout.notebook]
kernel = "notebook/vmlinuz"
root = "notebook"
[client.tide-01]
mac = "02:61:08:00:00:01"
address = "10.61.8.21"
segment = "tideroom"
boot = "notebook"
""")


@pytest.fixture(scope="module")
def serving(tmp_path_factory: pytest.TempPathFactory, serve_for_all: Serve) -> Serving:
    folder = tmp_path_factory.mktemp("site")
    (folder / "files/notebook").mkdir(parents=True)
    (folder / "files/notebook/vmlinuz").write_bytes(b"MZ" + random.Random(1).randbytes(300_000))
    (folder / "roots/notebook/etc").mkdir(parents=True)
    (folder / "roots/notebook/etc/greeting").write_text("hello")
    for number in range(3000):
        (folder / f"roots/notebook/etc/{number:05}-{'n' * 100}").touch()
    (folder / "daskel.toml").write_text(SITE)
    return serve_for_all(folder)


def boots(serving: Serving) -> None:
    """As a client does; nothing takes it longer than seconds."""
    wire, kernel = serving.wire, serving.folder / "files/notebook/vmlinuz"
    began = time.monotonic()
    ack = get_address(wire, SERVER, SYSTEM, MAC, 7)
    assert ack.yiaddr == TIDE
    assert tftp_get(wire, TIDE, SERVER, "notebook/vmlinuz", BIOS) == kernel.read_bytes()
    url = f"http://{SERVER}/notebook/vmlinuz"
    assert http_get(wire, TIDE, url) == kernel.read_bytes()
    root = NfsRoot(wire, TIDE, SERVER, "/roots/notebook")
    handle = root.resolve("/etc/greeting")
    assert handle and root.read(handle) == b"hello"
    root.close()
    assert time.monotonic() - began < 60


@pytest.fixture(autouse=True)
def nothing_is_left(serving: Serving) -> Iterator[None]:
    """Descriptors and memory of the server are what they were, and its log is short."""
    boots(serving)
    before, lines = memory(serving), serving.log.read_text().count("\n")
    yield
    boots(serving)
    until(lambda: descriptors(serving) < 200, "descriptors that stay open", 0.5)
    assert memory(serving) < before + (48 << 20)
    assert serving.log.read_text().count("\n") - lines < 2000


def memory(serving: Serving) -> int:
    status = Path(f"/proc/{serving.process.pid}/statm").read_text().split()
    return int(status[1]) * os.sysconf("SC_PAGE_SIZE")


def descriptors(serving: Serving) -> int:
    return len(list(Path(f"/proc/{serving.process.pid}/fd").iterdir()))


def addresses(serving: Serving, count: int) -> list[str]:
    return [serving.wire.outside(IPv4Address("10.61.8.30") + n % 200) for n in range(count)]


def test_transfers_that_nobody_takes(serving: Serving, figure: Figure) -> None:
    """5,000 requests of 200 addresses, none of which is answered."""
    asked = Request(Opcode.READ, b"notebook/vmlinuz", "octet", {"timeout": "30"}).serialise()
    target = (serving.address(), serving.wire.ports.tftp)
    for _ in range(ROUNDS):
        for own in addresses(serving, 200):
            for _ in range(25):
                with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
                    sock.bind((own, 0))
                    sock.sendto(asked, target)
        boots(serving)
    figure(
        "TFTP requests that nobody takes, of 200 addresses",
        5000 * ROUNDS,
        "a client boots after each 5,000",
    )


def test_one_address_takes_no_more_than_its_share(serving: Serving) -> None:
    asked = Request(Opcode.READ, b"notebook/vmlinuz", "octet").serialise()
    with ExitStack() as opened:
        for _ in range(300 * ROUNDS):
            sock = opened.enter_context(socket.socket(socket.AF_INET, socket.SOCK_DGRAM))
            sock.bind((addresses(serving, 1)[0], 0))
            sock.sendto(asked, (serving.address(), serving.wire.ports.tftp))
        until(lambda: descriptors(serving) < 100, "a socket for each of its transfers", 0.2)


def many(serving: Serving, port: int, count: int, first: bytes) -> list[socket.socket]:
    """Connections of many addresses that say only that."""
    found = []
    for own in addresses(serving, count):
        sock = socket.create_connection((serving.address(), port), PATIENCE, (own, 0))
        with suppress(OSError):
            sock.sendall(first)
        found.append(sock)
    return found


SAID = {
    "nothing": b"", "half a request": b"GET / HTTP/1.1\r\nHost: x\r\nX-", "a body that never comes":
    b"POST /up HTTP/1.1\r\nHost: x\r\nContent-Length: 90\r\n\r\nx",
}  # fmt: skip


@pytest.mark.parametrize("said", SAID)
def test_connections_that_say_nothing(serving: Serving, said: str, figure: Figure) -> None:
    http = many(serving, serving.wire.ports.http, 600 * ROUNDS, SAID[said])
    boots(serving)
    began = time.monotonic()
    for sock in http:
        sock.settimeout(40)
        with suppress(ConnectionError):
            while sock.recv(4096):
                pass
        sock.close()
    assert time.monotonic() - began < 40, "the server closes them"
    waited = time.monotonic() - began
    figure(f"HTTP connections with {said}", len(http), f"all closed after {waited:.0f} s")


def test_one_address_has_a_number_of_connections(serving: Serving) -> None:
    port, own = serving.wire.ports.http, addresses(serving, 1)[0]
    socks = [socket.create_connection((serving.address(), port), PATIENCE, (own, 0))
             for _ in range(200)]  # fmt: skip

    def is_open(sock: socket.socket) -> bool:
        sock.setblocking(False)
        try:
            return bool(sock.recv(1))
        except BlockingIOError:
            return True
        except ConnectionError:
            return False

    until(lambda: sum(map(is_open, socks)) <= 32, "32 of one address", 0.1)
    for sock in socks:
        sock.close()


def test_dates_that_cannot_be(serving: Serving) -> None:
    for field in ("If-Modified-Since", "If-Unmodified-Since", "If-Range", "Range", "If-Match"):
        for date in ("Thu, 01 Jan 0000 00:00:00 GMT", "Sat, 99 Foo 99999 99:99:99 GMT", "\xff" * 99,
                     "Fri, 31 Dec 9999 23:59:59 GMT", "Mon, 01 Jan 0001 00:00:00 GMT"):  # fmt: skip
            with socket.create_connection(
                (serving.address(), serving.wire.ports.http), PATIENCE
            ) as sock:
                head = f"GET /notebook/vmlinuz HTTP/1.1\r\nHost: x\r\n{field}: {date}\r\n\r\n"
                sock.sendall(head.encode("latin-1"))
                assert sock.recv(13)[9:12] in (b"200", b"206", b"304", b"400", b"412", b"416")


@pytest.mark.parametrize("service", ["nfs", "portmap"])
def test_calls_that_are_never_whole(serving: Serving, service: str, figure: Figure) -> None:
    """Strangers hold nothing; what is too long ends the connection."""
    port = getattr(serving.wire.ports, service)
    begun = (1 << 31 | 1_000_000).to_bytes(4, "big") + bytes(5000)
    began = time.monotonic()
    socks = many(serving, port, 300 * ROUNDS, begun)
    for sock in socks:
        sock.settimeout(PATIENCE)
        with suppress(ConnectionError):
            assert not sock.recv(1)
        sock.close()
    assert time.monotonic() - began < 8 * ROUNDS, "at once, not when nothing comes any more"
    figure(
        f"calls of 1 MB to {service} that are never whole, of strangers",
        len(socks),
        "all closed at once",
    )


def test_replies_that_nobody_reads(serving: Serving) -> None:
    """A stranger sends call after call, and reads no reply: it is read no further."""
    port, own = serving.wire.ports.nfs, addresses(serving, 4)[3]
    null = mark(serialise_call(1, nfs3.PROGRAM, 3, Procedure.NULL, b"")) * 100
    export = mark(serialise_call(1, mount.PROGRAM, 3, mount.Procedure.EXPORT, b"")) * 100
    for calls_ in (null, export):
        with socket.create_connection((serving.address(), port), PATIENCE, (own, 0)) as sock:
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
            sock.settimeout(2)
            sent = 0
            with suppress(TimeoutError):
                while sent < 32 << 20:
                    sent += sock.send(calls_)
            assert sent < 32 << 20
        boots(serving)


def test_a_long_queue_of_lists_holds_up_nobody(serving: Serving, figure: Figure) -> None:
    """400 calls for a list of 3,000 names at once, while the same worker serves another."""
    wire = serving.wire
    root = NfsRoot(wire, TIDE, SERVER, "/roots/notebook")
    etc = root.resolve("/etc")
    assert etc
    arguments = calls.serialise_readdirplus(etc, 0, 1 << 20)
    call = mark(serialise_call(1, nfs3.PROGRAM, 3, Procedure.READDIRPLUS, arguments))
    target = (wire.outside(SERVER), wire.ports.nfs)
    with from_reserved_port(wire.outside(TIDE), target) as greedy:
        greedy.sendall(call * 400)
        waits = []
        for _ in range(20):
            began = time.monotonic()
            root.call(Procedure.GETATTR, pack_opaque(root.top))
            waits.append(time.monotonic() - began)
        assert sorted(waits)[10] < 5
    figure("READDIRPLUS of 3,000 names, in one piece", 400,
           f"another client's GETATTR took {1000 * sorted(waits)[10]:.0f} ms (median of 20)")  # fmt: skip
    root.close()


def children(of: int) -> list[int]:
    with suppress(OSError):
        return [int(word) for word in Path(f"/proc/{of}/task/{of}/children").read_text().split()]
    return []


def processes(serving: Serving) -> tuple[int, list[int]]:
    """Process numbers of the keeper (0 while it is not running) and of the workers."""
    starter = next(p for p in children(serving.process.pid)
                   if b"nfs.keeper" in Path(f"/proc/{p}/cmdline").read_bytes())  # fmt: skip
    keeper = next(iter(children(starter)), 0)
    return keeper, children(keeper)


ENDS: dict[str, Callable[[Serving], int]] = {
    "a worker": lambda serving: processes(serving)[1][0],
    "another": lambda serving: processes(serving)[1][-1],
    "what mounts": lambda serving: processes(serving)[0],
}


@pytest.mark.skipif(os.geteuid() != 0, reason="slates need root")
@pytest.mark.parametrize("which", ENDS)
def test_a_process_that_ends_is_started_anew(serving: Serving, which: str, figure: Figure) -> None:
    root = NfsRoot(serving.wire, TIDE, SERVER, "/roots/notebook")
    top, ended = root.top, len(serving.events("process-ended"))
    before, began = processes(serving), time.monotonic()
    os.kill(ENDS[which](serving), signal.SIGKILL)
    until(lambda: len(serving.events("process-ended")) > ended, serving.log.read_text)
    get_address(serving.wire, SERVER, SYSTEM, MAC, 9)  # meanwhile
    until(lambda: len(processes(serving)[1]) == len(before[1]), "as many as before", 0.2)

    def again() -> bool:
        """Its handle is as good as before: a client goes on where it was."""
        target = (serving.wire.outside(SERVER), serving.wire.ports.nfs)
        call = mark(serialise_call(3, nfs3.PROGRAM, 3, Procedure.GETATTR, pack_opaque(top)))
        try:
            with from_reserved_port(serving.wire.outside(TIDE), target) as sock:
                sock.sendall(call)
                return sock.recv(4096)[28:32] == bytes(4)
        except OSError:
            return False

    until(again, serving.log.read_text, 0.2)
    took = time.monotonic() - began
    figure(f"kill -9 of an NFS process: {which}", 1, f"its clients go on after {took:.1f} s")
    root.close()


def test_without_descriptors_it_waits(tmp_path: Path, serving: Serving, serve: Serve) -> None:
    """200 descriptors for all: the log is short, the processor idle, and clients boot after it."""
    for name in ("files", "roots", "daskel.toml"):
        (tmp_path / name).symlink_to(serving.folder / name)
    small = serve(tmp_path, "prlimit", "--nofile=200:200")
    ports = small.wire.ports
    socks = many(small, ports.http, 150, b"") + many(small, ports.nfs, 150, b"")
    before = processor_time(small)
    time.sleep(2)
    assert processor_time(small) - before < 1.0
    for sock in socks:
        sock.close()
    boots(small)
    assert small.log.read_text().count("\n") < 100


def processor_time(serving: Serving) -> float:
    fields = Path(f"/proc/{serving.process.pid}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def test_a_flood_of_lines(serving: Serving, figure: Figure) -> None:
    """Missing files and wrong mounts, thousands of them: counted, not written."""
    target = (serving.address(), serving.wire.ports.tftp)
    lines: list[Any] = serving.events()
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.bind((addresses(serving, 7)[6], 0))
        for number in range(3000 * ROUNDS):
            sock.sendto(Request(Opcode.READ, b"no/%d" % number, "octet").serialise(), target)
    boots(serving)
    written = len(serving.events()) - len(lines)
    assert written < 300
    figure("requests for files that are not there", 3000 * ROUNDS, f"{written} lines in the log")
