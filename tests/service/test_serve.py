"""`daskel serve` as its clients meet it: files, ranges, mounts, malice, and sudden death."""

from __future__ import annotations

import os
import pty
import random
import signal
import socket
import sqlite3
import subprocess
import sys
import time
from dataclasses import replace
from ipaddress import IPv4Address
from pathlib import Path

import pytest

from daskel.cli.practice_server import free_base
from daskel.core.boot.address import Lease, LeaseState
from daskel.core.dhcp.client_messages import LOADER, SYSTEM, Face, discover, request
from daskel.core.dhcp.packet import parse, serialise
from daskel.core.dhcp.pxe import Firmware
from daskel.core.nfs import calls, mount, nfs3
from daskel.core.nfs.nfs3 import FileType, Procedure, Stable, Status
from daskel.core.nfs.rpc import mark, serialise_call
from daskel.core.nfs.xdr import pack_opaque, pack_u32, pack_u64
from daskel.core.tftp.packet import Error, Opcode, Request
from daskel.core.tftp.packet import parse as parse_tftp
from daskel.demo.data import lay_out
from daskel.rehearse.fetch import BootError, NfsRoot, get_address, http_get, tftp_get
from daskel.store.reading import read_leases
from tests.conftest import PATIENCE, SERVER, Serve, Serving, SiteText, daskel, until

TIDE_01, TIDE_10 = "02:61:08:00:00:01", "02:61:08:00:00:0a"
FIXED = IPv4Address("10.61.8.21")


@pytest.fixture
def serving(serve: Serve, demo_folder: Path) -> Serving:
    return serve(demo_folder)


def lease(serving: Serving, mac: str = TIDE_01) -> IPv4Address:
    return get_address(serving.wire, SERVER, SYSTEM, mac, random.getrandbits(32)).yiaddr


# --- files ---


def test_files_over_tftp(serving: Serving) -> None:
    own = lease(serving)
    on_disk = (serving.folder / "files/notebook/vmlinuz").read_bytes()
    for path in ("notebook/vmlinuz", "/notebook/vmlinuz", "notebook\\vmlinuz"):
        assert tftp_get(serving.wire, own, SERVER, path, LOADER) == on_disk
    (serving.folder / "files/exact").write_bytes(bytes(2048))  # the last block is empty
    (serving.folder / "files/empty").write_bytes(b"")
    assert tftp_get(serving.wire, own, SERVER, "exact", LOADER) == bytes(2048)
    assert tftp_get(serving.wire, own, SERVER, "empty", LOADER) == b""
    config = tftp_get(serving.wire, own, SERVER, f"loader/{TIDE_01}.cfg", LOADER)
    assert b"hostname=tide-01" in config
    event = serving.events("file-sent")[0]
    assert (event["client"], event["size"], event["stage"]) == ("tide-01", len(on_disk), "kernel")


def tftp_error(serving: Serving, message: bytes) -> tuple[int, str]:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.settimeout(PATIENCE)
        sock.sendto(message, (serving.address(), serving.wire.ports.tftp))
        packet = parse_tftp(sock.recv(2048))
    assert isinstance(packet, Error), packet
    return packet.code, packet.message


READ, WRITE = Opcode.READ, Opcode.WRITE
REFUSED = [  # (path, mode, opcode, error code of RFC 1350)
    (b"nothing", "octet", READ, 1),
    (b"/etc/passwd", "octet", READ, 1),
    (b"notebook", "octet", READ, 1),
    (b"loader/02:61:ff:00:00:01.cfg", "octet", READ, 1),
    (b"../daskel.toml", "octet", READ, 2),
    (b"notebook/../../daskel.toml", "octet", READ, 2),
    (b"..\\daskel.toml", "octet", READ, 2),
    (b"out", "octet", READ, 2),
    (b"away/daskel.toml", "octet", READ, 2),
    (b"x" * 10_000, "octet", READ, 2),
    (b"\xff\xfe", "octet", READ, 2),
    (b"", "octet", READ, 2),
    (b"new", "octet", WRITE, 2),
    (b"notebook/vmlinuz", "mail", READ, 4),
]


def test_paths_that_nobody_gets(serving: Serving) -> None:
    (serving.folder / "files/out").symlink_to(serving.folder / "daskel.toml")
    (serving.folder / "files/away").symlink_to("..")
    for path, mode, opcode, code in REFUSED:
        assert tftp_error(serving, Request(opcode, path, mode).serialise())[0] == code, path
    assert tftp_error(serving, b"\0\4\0\1")[0] == 5
    nul = b"\0\1notebook\0/vmlinuz\0octet\0"
    assert tftp_error(serving, nul)[0] == 4, "what stands behind a NUL is the mode"
    missing = serving.events("file-missing")
    assert "no such file" in {event["reason"] for event in missing}
    assert "it leads out of the files folder" in {event["reason"] for event in missing}


def test_files_over_http(serving: Serving) -> None:
    own = lease(serving)
    base = f"http://{SERVER}:{serving.wire.ports.http}"
    on_disk = (serving.folder / "files/notebook/initrd.img").read_bytes()
    assert http_get(serving.wire, own, f"{base}/notebook/initrd.img") == on_disk
    url = f"http://{serving.address()}:{serving.wire.ports.http}"

    def curl(*words: str) -> str:
        done = subprocess.run(["curl", "-s", *words], capture_output=True, check=True)
        return done.stdout.decode("latin-1")

    config = f"{url}/loader/{TIDE_01}.cfg"
    whole = curl(config)
    cases = [
        ("-I", f"{url}/notebook/initrd.img", "Content-Length: 700000"),
        ("-I", config, f"Content-Length: {len(whole)}"),
        ("-r10-19", f"{url}/notebook/initrd.img", on_disk[10:20].decode("latin-1")),
        ("-r10-19", config, whole[10:20]),
        ("-r-5", config, whole[-5:]),
        ("-ir0-0", config, f"Content-Range: bytes 0-0/{len(whole)}"),
        ("-ir9999999-", config, "416"),
        ("-ir9999999-", f"{url}/notebook/initrd.img", "416"),
        ("-i", f"{url}/nothing", "404"),
        ("-i", f"{url}/%2e%2e/daskel.toml", "403"),
        ("-i", f"{url}/..%5cdaskel.toml", "403"),
        ("-i", f"{url}/a%00b", "403"),
        ("-iXPOST", config, "405"),
    ]
    for option, address, expected in cases:
        assert expected in curl("--path-as-is", option, address), (option, address)
    sent = [event for event in serving.events("file-sent") if event["over"] == "http"]
    assert sent[0]["client"] == "tide-01" and sent[0]["size"] == 700000


def test_what_a_client_has_already_is_not_sent_again(serving: Serving) -> None:
    place, kept = serving.folder / "files/notebook/initrd.img", serving.folder / "tag"
    url = f"http://{serving.address()}:{serving.wire.ports.http}/notebook/initrd.img"

    def status(*words: str) -> str:
        command = ["curl", "-s", "-o", "/dev/null", "-w", "%{http_code}", *words, url]
        return subprocess.run(command, capture_output=True, check=True, text=True).stdout

    same = ("--etag-compare", str(kept))
    assert status("--etag-save", str(kept)) == "200" and status(*same) == "304"
    before, data = place.stat(), place.read_bytes()
    place.write_bytes(data[::-1])
    os.utime(place, ns=(before.st_atime_ns, before.st_mtime_ns))  # as some programs copy
    assert status(*same) == "200"
    os.utime(place)
    place.write_bytes(data)
    assert status(*same) == "304", "the tag is of what is in it"


def test_a_machine_that_begins_anew_leaves_no_connection(serving: Serving) -> None:
    """Those of others stay. Where one would stay, a boot loader that counts its ports from the
    same number again would wait for it."""
    own = lease(serving)

    def ask(sock: socket.socket) -> None:
        sock.sendall(b"GET /none HTTP/1.1\r\nHost: x\r\n\r\n")
        answer = b""
        while not answer.endswith(b"no such file\n"):
            more = sock.recv(4096)
            assert more, "closed with a farewell"
            answer += more

    def connect(address: str) -> socket.socket:
        source = (serving.wire.outside(IPv4Address(address)), 0)
        target = (serving.address(), serving.wire.ports.http)
        sock = socket.create_connection(target, PATIENCE, source)
        ask(sock)
        return sock

    with connect(str(own)) as mine, connect("10.61.8.22") as others:
        get_address(serving.wire, SERVER, SYSTEM, TIDE_01, 8)
        ask(mine)  # its system asks for an address: that begins nothing
        get_address(serving.wire, SERVER, Face.of(Firmware.UEFI_HTTP), TIDE_01, 9)
        with pytest.raises(ConnectionResetError):
            ask(mine)
        ask(others)


def test_files_of_ones_own_else_those_of_all(serve: Serve, demo_folder: Path) -> None:
    site = demo_folder / "daskel.toml"
    more = '\n[file."{{ client.serial }}/*"]\nfolder = "logger"\n'
    text = SiteText(site.read_text()).replace(
        "[client.buoy-1]", '[client.buoy-1]\nserial = "s4711"'
    )
    site.write_text(text + more)
    own = demo_folder / "files/s4711/initrd.img"
    own.parent.mkdir()
    own.write_bytes(b"my own")
    serving = serve(demo_folder)
    base = f"http://{SERVER}:{serving.wire.ports.http}/s4711"
    asker = IPv4Address("10.61.10.100")
    assert http_get(serving.wire, asker, f"{base}/initrd.img") == b"my own"
    shared = (demo_folder / "files/logger/Image").read_bytes()
    assert http_get(serving.wire, asker, f"{base}/Image") == shared
    with pytest.raises(BootError, match="404"):
        http_get(serving.wire, asker, f"{base}/nothing")


def test_a_machine_that_is_reset_begins_anew_at_the_same_port(serving: Serving) -> None:
    first = Request(READ, b"notebook/vmlinuz", "octet", {"blksize": "1000"}).serialise()
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.settimeout(PATIENCE)
        target = (serving.address(), serving.wire.ports.tftp)

        def ask(message: bytes) -> tuple[bytes, tuple[str, int]]:
            sock.sendto(message, target)
            data, peer = sock.recvfrom(2048)
            return data, peer

        options, peer = ask(first)
        sock.sendto(b"\0\4\0\0", peer)
        assert sock.recv(2048)[:4] == b"\0\3\0\1"
        sock.sendto(b"\0\4\0\1", peer)
        assert sock.recv(2048)[:4] == b"\0\3\0\2"
        again, other = ask(first)
        assert again == options and other != peer


# --- roots ---


def nfs(root: NfsRoot, procedure: Procedure, arguments: bytes, uid: int = 0) -> int:
    """The status of one call."""
    root._sock.sendall(mark(serialise_call(99, nfs3.PROGRAM, 3, procedure, arguments, uid)))
    data = root._sock.recv(65536)
    return int.from_bytes(data[28:32], "big")


def test_a_root_is_read_and_not_written(serve: Serve, demo_folder: Path) -> None:
    site = demo_folder / "daskel.toml"
    site.write_text(SiteText(site.read_text()).replace('slate = "keep"', 'slate = "none"'))
    serving = serve(demo_folder)
    own = lease(serving)
    shadow = serving.folder / "roots/notebook/etc/shadow"
    shadow.write_text("secret")
    shadow.chmod(0o600)
    root = NfsRoot(serving.wire, own, SERVER, "/roots/notebook")
    files = dict(root.files())
    disk = serving.folder / "roots/notebook"
    expected = {
        str(p.relative_to(disk)) for p in disk.rglob("*") if p.is_file() and not p.is_symlink()
    }
    assert set(files) == {path for path in expected if not path.startswith("bin/")}
    assert all((disk / path).read_bytes() == data for path, data in files.items())
    etc = next(entry for entry in root.entries(root.top) if entry.name == b"etc").handle or b""
    secret = next(entry for entry in root.entries(etc) if entry.name == b"shadow").handle or b""
    new = calls.Make(root.top, b"new", FileType.REGULAR)
    special = calls.Make(root.top, b"new", FileType.FIFO)
    writes = [
        (Procedure.SETATTR, calls.serialise_setattr(secret, calls.NewAttributes(0))),
        (Procedure.WRITE, calls.Write(secret, 0, Stable.UNSTABLE, b"x").serialise()),
        (Procedure.CREATE, calls.serialise_create(new)),
        (Procedure.MKDIR, calls.serialise_mkdir(new)),
        (Procedure.SYMLINK, calls.serialise_symlink(new)),
        (Procedure.MKNOD, calls.serialise_mknod(special)),
        (Procedure.REMOVE, calls.serialise_lookup(root.top, b"etc")),
        (Procedure.RMDIR, calls.serialise_lookup(root.top, b"etc")),
        (Procedure.RENAME, calls.serialise_rename(root.top, b"etc", root.top, b"new")),
        (Procedure.LINK, calls.serialise_link(secret, root.top, b"new")),
        (Procedure.COMMIT, calls.serialise_commit(secret, 0, 0)),
    ]
    for procedure, arguments in writes:
        assert nfs(root, procedure, arguments) == Status.ROFS, procedure
    cases = [
        (Procedure.READ, calls.serialise_read(secret, 0, 10), 0, Status.OK),
        (Procedure.READ, calls.serialise_read(secret, 0, 10), 1000, Status.ACCES if os.geteuid() == 0 else Status.OK),
        (Procedure.LOOKUP, calls.serialise_lookup(root.top, b"nothing"), 0, Status.NOENT),
        (Procedure.LOOKUP, calls.serialise_lookup(root.top, b"x" * 300), 0, Status.NAMETOOLONG),
        (Procedure.GETATTR, pack_opaque(bytes(24)), 0, Status.STALE),
        (Procedure.GETATTR, pack_opaque(b"short"), 0, Status.BADHANDLE),
        (Procedure.READDIR, pack_opaque(root.top) + pack_u64(0, 0) + pack_u32(130), 0, Status.TOOSMALL),
        (Procedure.READLINK, pack_opaque(secret), 0, Status.INVAL),
        (Procedure.FSSTAT, pack_opaque(root.top), 0, Status.OK),
        (Procedure.PATHCONF, pack_opaque(root.top), 0, Status.OK),
    ]  # fmt: skip
    for procedure, arguments, uid, status in cases:
        assert nfs(root, procedure, arguments, uid) == status, procedure
    root.close()


def test_only_ones_own_root_can_be_mounted(serving: Serving) -> None:
    own = lease(serving)
    cases = [
        (own, "/roots/catalogue", "permission denied"),
        (own, "/roots/nothing", "no such file"),
        (own, "/roots/notebook/nothing", "no such file"),
        (own, "/roots/notebook/../catalogue", "no such file"),
        (own, "/", "no such file"),
        (IPv4Address("10.61.8.77"), "/roots/notebook", "permission denied"),
    ]
    for address, path, why in cases:
        with pytest.raises(BootError, match=why):
            NfsRoot(serving.wire, address, SERVER, path)
    reasons = [event["reason"] for event in serving.events("mount-refused")]
    assert reasons == [
        "the root of tide-01 is /roots/notebook",
        "the root of tide-01 is /roots/notebook",
        "there is no directory /nothing in the root notebook",
        "there is no directory /../catalogue in the root notebook",
        "the root of tide-01 is /roots/notebook",
        "10.61.8.77 is not a client of the site",
    ]
    NfsRoot(serving.wire, own, SERVER, "/roots/notebook/usr/share/").close()
    mine = NfsRoot(serving.wire, own, SERVER, "/roots/notebook")
    theirs = NfsRoot(
        serving.wire, IPv4Address("10.61.9.21"), IPv4Address("10.61.9.1"), "/roots/catalogue"
    )
    # each is served by a process that may not even know the other's root
    assert nfs(mine, Procedure.GETATTR, pack_opaque(theirs.top)) in (Status.ACCES, Status.STALE)
    mine.close(), theirs.close()


def test_odd_calls(serving: Serving) -> None:
    own = lease(serving)
    cases = [  # (program, version, procedure, accept status of RFC 5531 9)
        (nfs3.PROGRAM, 3, 0, 0),
        (nfs3.PROGRAM, 2, 0, 2),
        (nfs3.PROGRAM, 3, 22, 3),
        (nfs3.PROGRAM, 3, 1, 4),
        (mount.PROGRAM, 3, 0, 0),
        (mount.PROGRAM, 3, 2, 0),
        (mount.PROGRAM, 3, 5, 0),
        (mount.PROGRAM, 3, 9, 3),
        (mount.PROGRAM, 1, 0, 2),
        (100000, 2, 0, 1),
    ]
    with socket.create_connection(
        (serving.address(), serving.wire.ports.nfs), PATIENCE, (serving.wire.outside(own), 0)
    ) as sock:
        for program, version, procedure, status in cases:
            sock.sendall(mark(serialise_call(5, program, version, procedure, b"")))
            assert int.from_bytes(sock.recv(4096)[24:28], "big") == status, (program, procedure)
        sock.sendall(b"\xff\xff\xff\xff garbage")
        assert sock.recv(100) == b""


def test_port_mapper(serving: Serving) -> None:
    asked = serialise_call(9, 100000, 2, 3, pack_u32(nfs3.PROGRAM, 3, 6, 0))
    newer = serialise_call(9, 100000, 4, 3, b"")
    address = (serving.address(), serving.wire.ports.portmap)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.settimeout(PATIENCE)
        sock.sendto(b"garbage", address)
        sock.sendto(asked, address)
        assert sock.recv(100)[-4:] == pack_u32(serving.wire.ports.nfs)
        sock.sendto(newer, address)
        assert sock.recv(100)[-12:] == pack_u32(2, 2, 2), "only version 2 is there"
    with socket.create_connection(address, 5) as stream:
        stream.sendall(mark(asked))
        assert stream.recv(100)[-4:] == pack_u32(serving.wire.ports.nfs)


# --- malice ---


def memory(serving: Serving) -> int:
    """Resident bytes of the server."""
    status = Path(f"/proc/{serving.process.pid}/statm").read_text().split()
    return int(status[1]) * os.sysconf("SC_PAGE_SIZE")


def flood(serving: Serving, rounds: int) -> None:
    """Random bytes, and real messages cut, doubled and scribbled upon, to every port."""
    chance = random.Random(61)
    real = serialise(discover(SYSTEM, "02:61:ff:00:00:01", 1))[0]
    asked = Request(READ, b"notebook/vmlinuz", "octet", {"blksize": "8"}).serialise()
    call = mark(serialise_call(1, nfs3.PROGRAM, 3, 3, pack_opaque(bytes(16)) + pack_opaque(b"x")))
    ports = serving.wire.ports
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        for _ in range(rounds):
            for port, message in ((ports.dhcp, real), (ports.tftp, asked)):
                data = bytearray(message[: chance.randrange(len(message))])
                data += chance.randbytes(chance.randrange(200))
                for _ in range(3):
                    data[chance.randrange(len(data))] = chance.randrange(256)
                sock.sendto(data, (serving.address(), port))
    for _ in range(rounds // 20):
        with socket.create_connection((serving.address(), ports.http), PATIENCE) as stream:
            stream.sendall(b"GET /%zz\0 " + chance.randbytes(100) + b"\r\n\r\n")
        with socket.create_connection((serving.address(), ports.nfs), PATIENCE) as stream:
            stream.sendall(call[: chance.randrange(len(call))] + chance.randbytes(500))


def test_noise_stops_nothing_and_fills_nothing(serving: Serving) -> None:
    flood(serving, 1000)
    lease(serving)
    before = memory(serving)
    flood(serving, 6000)
    own = lease(serving)
    assert tftp_get(serving.wire, own, SERVER, "notebook/vmlinuz", LOADER)
    NfsRoot(serving.wire, own, SERVER, "/roots/notebook").close()
    assert memory(serving) < before + 16e6
    assert serving.process.poll() is None
    malformed = serving.events("malformed")
    assert {event["service"] for event in malformed} == {"dhcp", "tftp", "nfs", "http"}
    assert len(malformed) <= 16, "counted, and said now and then only"
    assert serving.stop() == 0
    counted = sum(event["count"] for event in serving.events("malformed"))
    assert counted > 1000


# --- sudden death ---


def test_nothing_is_given_out_twice_after_a_sudden_death(serve: Serve, demo_folder: Path) -> None:
    """Killed right behind each ACK: what was acknowledged is known to the next server."""
    text = SiteText((demo_folder / "daskel.toml").read_text())
    small = text.replace("10.61.8.100 - 10.61.8.199", "10.61.8.100 - 10.61.8.107")
    small = small.replace(
        'mac = "02:61:08:00:00:0c"\ngroup = "tide"',
        'mac = "02:61:08:00:00:0c"\ngroup = "tide"\naddress = "10.61.8.32"',
    )
    (demo_folder / "daskel.toml").write_text(small)
    given: dict[IPv4Address, str] = {}
    for number in range(4):
        serving = serve(demo_folder)
        mac = f"02:61:ff:00:00:{number:02x}"
        address = lease(serving, mac)
        serving.stop(signal.SIGKILL)
        assert address not in given, "an address was given out twice"
        given[address] = mac
    serving = serve(demo_folder)
    for address, mac in given.items():
        assert lease(serving, mac) == address
    offer = discover(SYSTEM, "02:61:ff:00:00:99", 7)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.settimeout(1)
        sock.sendto(serialise(offer)[0], (serving.address(), serving.wire.ports.dhcp))
        with pytest.raises(TimeoutError):
            sock.recv(2048)
    assert "half of the pool" in serving.wait_for("refused")["reason"]


def test_what_was_told_without_a_write_is_known_after_a_sudden_death(
    serve: Serve, demo_folder: Path
) -> None:
    """On disk a lease lasts longer than was told, so that the next one need not be written."""

    def kept() -> Lease:
        return next(one for one in read_leases(demo_folder / "state.db").all() if one.mac == mac)

    mac, serving, released = "02:61:ff:00:00:01", serve(demo_folder), False
    lease(serving, mac)
    for _ in range(3):
        first = kept()
        address = lease(serving, mac)
        assert (kept() == first) is not released, "written, when something else was meanwhile"
        told, seconds = time.time(), serving.wait_for("addressed")["lease"]
        assert told + seconds - 5 < kept().expires < told + seconds * 9 / 8 + 5
        if released := not released:
            give_back(serving, mac, address)
            until(lambda: kept().state is LeaseState.RELEASED)
    serving.stop(signal.SIGKILL)
    assert lease(serve(demo_folder), mac) == address


def give_back(serving: Serving, mac: str, address: IPv4Address) -> None:
    """RELEASE (RFC 2131 4.4.6), which nobody answers."""
    asked = discover(SYSTEM, mac, 9)
    packet = replace(asked, options={53: b"\7", 54: SERVER.packed}, ciaddr=address)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.sendto(serialise(packet)[0], (serving.address(), serving.wire.ports.dhcp))


def test_mounted_roots_go_on_after_a_sudden_death(serve: Serve, demo_folder: Path) -> None:
    serving = serve(demo_folder)
    own = lease(serving, TIDE_10)
    root = NfsRoot(serving.wire, own, SERVER, "/roots/notebook")
    handles = {entry.name: entry.handle for entry in root.entries(root.top)}
    etc = handles[b"etc"] or b""
    file = next(e for e in root.entries(etc) if e.name == b"os-release").handle or b""
    serving.stop(signal.SIGKILL)
    again = serve(demo_folder)
    assert own == lease(again, TIDE_10)
    fresh = NfsRoot(again.wire, own, SERVER, "/roots/notebook")
    assert fresh.top == root.top
    assert b"stand-in" in fresh.read(file)  # a handle of the server that died
    root.close(), fresh.close()


def test_a_lease_is_on_disk_before_its_ack(serving: Serving) -> None:
    """No ACK while the store cannot be written to."""
    with sqlite3.connect(serving.folder / "state.db", isolation_level=None) as other:
        other.execute("begin exclusive")
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            sock.settimeout(PATIENCE)
            target = (serving.address(), serving.wire.ports.dhcp)
            sock.sendto(serialise(discover(SYSTEM, TIDE_01, 3))[0], target)
            offer = parse(sock.recv(2048))
            sock.sendto(serialise(request(SYSTEM, offer))[0], target)
            sock.settimeout(1)
            with pytest.raises(TimeoutError):
                sock.recv(2048)
            other.execute("rollback")
            sock.settimeout(PATIENCE)
            assert parse(sock.recv(2048)).yiaddr == FIXED


# --- beginning and ending ---


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_signals_end_it_cleanly(serving: Serving, number: int) -> None:
    own = lease(serving)
    NfsRoot(serving.wire, own, SERVER, "/roots/notebook")  # left open
    assert serving.stop(number) == 0
    assert serving.events("ended")[0]["text"] == "1 came to root"


def test_a_port_in_use_names_its_holder(serving: Serving, tmp_path: Path) -> None:
    base = serving.wire.ports.dhcp - 67
    folder = tmp_path / "second"
    folder.mkdir()
    lay_out(folder)
    second = daskel("serve", "--loopback", str(base), cwd=folder)
    assert second.returncode == 3
    expected = (
        f"port {base + 67}/udp on 127.61.8.1 is held by daskel (process {serving.process.pid})"
    )
    assert expected in second.stderr
    assert "Traceback" not in second.stderr

    assert serving.process.poll() is None


def test_the_holder_of_the_nfs_port_is_named_too(demo_folder: Path) -> None:
    """It is opened last, when the server has not yet given up the right to look."""
    base = free_base()
    with socket.create_server(("127.61.8.1", base + 2049)):
        refused = daskel("serve", "--loopback", str(base), cwd=demo_folder)
    assert refused.returncode == 3 and f"(process {os.getpid()})" in refused.stderr, refused
    with socket.create_server(("127.61.8.1", base + 111)):
        process = subprocess.Popen(
            [Path(sys.executable).with_name("daskel"), "serve", "--loopback", str(base), "--json"],
            cwd=demo_folder, stdout=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert process.stdout
        first = process.stdout.readline()
        process.terminate()
        process.communicate()
    assert f"(process {os.getpid()})" in first and "do not boot" in first


def test_closing_the_terminal_ends_it(demo_folder: Path) -> None:
    """Without a terminal SIGHUP takes the site file over; a closed window is the end."""
    base = free_base()
    program = Path(sys.executable).with_name("daskel")
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(demo_folder)
        os.execv(program, ["daskel", "serve", "--loopback", str(base)])
    said = b""
    while b"ready" not in said:
        said += os.read(terminal, 4096)
    os.close(terminal)
    until(lambda: os.waitpid(pid, os.WNOHANG) != (0, 0), "it goes on without its terminal")
