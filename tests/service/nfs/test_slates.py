"""Slates as clients and the administrator meet them: kept, fresh, apart, limited, wiped, promoted."""

from __future__ import annotations

import os
import random
import signal
import time
from concurrent.futures import ThreadPoolExecutor
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

import pytest

from daskel.core.dhcp.client_messages import Face
from daskel.core.dhcp.pxe import Firmware
from daskel.core.nfs import calls, nfs3, results
from daskel.core.nfs.calls import Make, NewAttributes, Write
from daskel.core.nfs.nfs3 import FileType, Procedure, Stable, Status
from daskel.core.nfs.rpc import mark, serialise_call
from daskel.core.nfs.xdr import pack_opaque
from daskel.rehearse.fetch import BootError, NfsRoot, from_reserved_port, get_address
from tests.conftest import SERVER, Serve, Serving, SiteText, daskel, until

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
ONE, TWO = IPv4Address("10.61.8.21"), IPv4Address("10.61.8.22")
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
[root.notebook]
slate = "SLATE"
size = "1 MiB"
[loadout.notebook]
kernel = "vmlinuz"
root = "notebook"
[group.tide]
segment = "tideroom"
boot = "notebook"
[client.tide-01]
mac = "02:61:08:00:00:01"
address = "10.61.8.21"
group = "tide"
[client.tide-02]
mac = "02:61:08:00:00:02"
address = "10.61.8.22"
group = "tide"
""")


def lay_out(folder: Path, slate: str) -> None:
    (folder / "files").mkdir()
    (folder / "files/vmlinuz").write_bytes(b"MZ" + bytes(600))
    for name in ("etc", "var/log"):
        (folder / "roots/notebook" / name).mkdir(parents=True)
    (folder / "roots/notebook/etc/greeting").write_text("hello")
    (folder / "roots/notebook/etc/hostname").write_text("nobody")
    (folder / "roots/notebook/var/log/old").write_text("of one machine")
    (folder / "daskel.toml").write_text(SITE.replace("SLATE", slate))


class Client:
    """What a client does with its root."""

    def __init__(self, serving: Serving, address: IPv4Address) -> None:
        self.root = NfsRoot(serving.wire, address, SERVER, "/roots/notebook")

    def write(self, name: str, data: bytes) -> bytes:
        make = Make(self.root.top, name.encode(), FileType.REGULAR, NewAttributes(0o644))
        made = self.root.call(Procedure.CREATE, calls.serialise_create(make))
        handle = results.parse_made(made)[0]
        assert handle
        for at in range(0, len(data), 100_000):
            write = Write(handle, at, Stable.FILE_SYNC, data[at : at + 100_000])
            self.root.call(Procedure.WRITE, write.serialise())
        return handle

    def files(self) -> dict[str, bytes]:
        return dict(self.root.files())


def run(folder: Path, *words: str) -> str:
    done = daskel(*words, "--site", folder / "daskel.toml")
    assert done.returncode == 0, done
    return done.stdout


def test_kept_apart_and_there_again(tmp_path: Path, serve: Serve) -> None:
    lay_out(tmp_path, "keep")
    serving = serve(tmp_path)
    one, two = Client(serving, ONE), Client(serving, TWO)
    handle = one.write("mine", b"changed")
    assert (
        one.files()["etc/hostname"] == b"tide-01\n" and two.files()["etc/hostname"] == b"tide-02\n"
    )
    assert one.files()["etc/machine-id"] != two.files()["etc/machine-id"]
    assert b"10.61.8.1:/roots/notebook / nfs" in one.files()["etc/fstab"]
    assert "mine" in one.files() and "mine" not in two.files()
    assert (tmp_path / "slates/notebook/tide-01/upper/mine").read_bytes() == b"changed", "at once"
    with pytest.raises(BootError):
        two.root.call(Procedure.GETATTR, pack_opaque(handle))
    with pytest.raises(BootError, match="status 28"):
        one.write("big", bytes(1_500_000))
    serving.stop(signal.SIGKILL)
    again = Client(serve(tmp_path), ONE)
    assert again.root.read(handle) == b"changed", "a handle from before"
    assert (tmp_path / "roots/notebook/etc/hostname").read_text() == "nobody"
    shown = run(tmp_path, "slate", "show", "tide-01")
    assert "added    mine" in shown and "2 paths" in shown
    run(tmp_path, "slate", "wipe", "tide-01", "--yes")
    assert not (tmp_path / "slates/notebook/tide-01").exists()


def test_a_call_that_comes_again_is_answered_again(tmp_path: Path, serve: Serve) -> None:
    """The reply was lost with the connection: the second REMOVE must not find nothing."""
    lay_out(tmp_path, "keep")
    serving = serve(tmp_path)
    one = Client(serving, ONE)
    one.write("mine", b"x")
    arguments = calls.serialise_lookup(one.root.top, b"mine")
    message = mark(serialise_call(4711, nfs3.PROGRAM, 3, Procedure.REMOVE, arguments))
    other = mark(serialise_call(4712, nfs3.PROGRAM, 3, Procedure.REMOVE, arguments))
    again = Client(serving, ONE)
    expected = [(one, message, 0), (one, message, 0), (again, message, 0), (again, other, 2)]
    for client, data, status in expected:
        client.root._sock.sendall(data)
        assert int.from_bytes(client.root._sock.recv(4096)[28:32], "big") == status


def test_a_slate_that_cannot_be_opened_now_is_no_stale_one(tmp_path: Path, serve: Serve) -> None:
    lay_out(tmp_path, "keep")
    serving = serve(tmp_path)
    one = Client(serving, ONE)
    top = one.root.top
    state = tmp_path / "slates/notebook/tide-01/slate.json"
    good = SiteText(state.read_text())
    serving.stop(signal.SIGKILL)
    state.write_text(good.replace('"version": 0', '"version": 7'))
    again = serve(tmp_path)
    with pytest.raises(BootError, match="no such file"):
        Client(again, ONE)
    assert "version 7 of the root notebook is gone" in again.wait_for("mount-refused")["reason"]
    target = (again.address(), again.wire.ports.nfs)
    with from_reserved_port(again.wire.outside(ONE), target) as sock:
        asked = mark(serialise_call(1, nfs3.PROGRAM, 3, Procedure.GETATTR, pack_opaque(top)))

        def answered() -> int:
            sock.sendall(asked)
            return int.from_bytes(sock.recv(4096)[28:32], "big")

        assert answered() == Status.JUKEBOX
        state.write_text(good)
        until(lambda: answered() == Status.OK, "by itself, when it can be opened", 0.5)


def test_two_hundred_clients_at_once(tmp_path: Path, serve: Serve) -> None:
    lay_out(tmp_path, "keep")
    site = tmp_path / "daskel.toml"
    addresses = [IPv4Address("10.61.8.21") + number for number in range(2, 202)]
    more = (
        f'[client.many-{n}]\nmac = "02:61:08:00:01:{n:02x}"\naddress = "{a}"\ngroup = "tide"\n'
        for n, a in enumerate(addresses)
    )
    site.write_text(site.read_text() + "".join(more))
    large = random.Random(61).randbytes(1_000_000)
    (tmp_path / "roots/notebook/large").write_bytes(large)
    serving = serve(tmp_path)

    def read(address: IPv4Address) -> bool:
        files = Client(serving, address).files()
        return files["large"] == large and files["etc/hostname"].startswith(b"many-")

    with ThreadPoolExecutor(max_workers=200) as pool:
        assert all(pool.map(read, addresses))


def test_fresh_at_every_boot(tmp_path: Path, serve: Serve) -> None:
    lay_out(tmp_path, "fresh")
    serving = serve(tmp_path)
    Client(serving, ONE).write("mine", b"changed")
    assert "mine" in Client(serving, ONE).files(), "mounted again in the same boot"
    get_address(serving.wire, SERVER, Face.of(Firmware.BIOS), "02:61:08:00:00:01", 1)
    assert serving.events("seen")
    time.sleep(0.2)
    assert "mine" not in Client(serving, ONE).files()


def test_frozen(tmp_path: Path, serve: Serve) -> None:
    """What it had is there at every boot, what it changed since is not; and taken back."""
    lay_out(tmp_path, "keep")
    serving = serve(tmp_path)

    def boots(*written: str) -> dict[str, bytes]:
        get_address(serving.wire, SERVER, Face.of(Firmware.BIOS), "02:61:08:00:00:01", 1)
        time.sleep(0.2)
        client = Client(serving, ONE)
        for name in written:
            client.write(name, b"x")
        files = client.files()
        client.root.close()
        time.sleep(0.3)
        return files

    boots("first")
    run(tmp_path, "slate", "freeze", "tide-01")
    assert "keep, frozen" in run(tmp_path, "slate", "list")
    assert {"first", "second"} <= boots("second").keys()
    assert "first" in run(tmp_path, "slate", "show", "tide-01")
    run(tmp_path, "slate", "copy-out", "tide-01", "first", str(tmp_path / "out"))
    assert (tmp_path / "out").read_bytes() == b"x"
    run(tmp_path, "slate", "copy-out", "tide-01", ".", str(tmp_path / "all"))
    assert {"first", "second"} <= {path.name for path in (tmp_path / "all").iterdir()}
    assert "second" not in boots() and "first" in boots("third")
    run(tmp_path, "slate", "freeze", "tide-01", "--undo")
    assert {"first", "fourth"} <= boots("fourth").keys()
    assert {"first", "fourth"} <= boots().keys() and "third" not in boots(), "kept again"
    again = daskel("slate", "freeze", "tide-01", "--undo", "--site", tmp_path / "daskel.toml")
    assert again.returncode == 1 and "is not frozen" in again.stderr


def test_versions(tmp_path: Path, serve: Serve) -> None:
    """Sealed, chosen, compared, promoted from a client, dropped when nobody needs them."""
    lay_out(tmp_path, "keep")
    run(tmp_path, "root", "seal", "notebook", "--yes")
    serving = serve(tmp_path)
    tree, versions = tmp_path / "roots/notebook", tmp_path / "roots/.versions/notebook"
    assert not (versions / "1/var/log/old").exists() and (versions / "1/var/log").is_dir()
    one = Client(serving, ONE)
    one.write("installed", b"program")
    (tree / "etc/greeting").write_text("good day")
    assert one.files()["etc/greeting"] == b"hello", "the working tree is not what it runs on"
    run(tmp_path, "root", "seal", "notebook", "--yes", "--use")
    same = [(versions / f"{n}/etc/hostname").stat().st_ino for n in (1, 2)]
    assert same[0] == same[1], "what is unchanged is shared"
    started = [one, Client(serving, ONE), Client(serving, TWO)]
    assert started[1].files()["etc/greeting"] == b"hello", "its slate stays on version 1"
    assert started[2].files()["etc/greeting"] == b"good day"
    run(tmp_path, "root", "seal", "notebook", "--from", "tide-01", "--yes")
    assert (versions / "3/installed").read_bytes() == b"program"
    compared = daskel(
        "root", "diff", "notebook", "1", "3", "--json", "--site", tmp_path / "daskel.toml"
    )
    assert '{"path": "installed", "what": "added"}' in compared.stdout
    kept = daskel("root", "drop", "notebook", "1", "--yes", "--site", tmp_path / "daskel.toml")
    assert kept.returncode == 1 and "tide-01" in kept.stderr
    site = ("--site", tmp_path / "daskel.toml")
    assert "power it off" in daskel("slate", "rebase", "tide-01", "--yes", *site).stderr
    one.write("etc-new", b"mine")
    one.write("other", b"mine")
    for client in started:
        client.root.close()
    time.sleep(0.5)
    for name in ("etc-new", "other"):
        (versions / "3" / name).write_text("theirs")
    rebase = ("slate", "rebase", "tide-01", "--to", "3", "--yes")
    assert daskel(*rebase, "--take", "sbin", *site).returncode == 2
    moved = run(tmp_path, *rebase, "--take", "other")
    assert "added    etc-new\n" in moved and "other  taken from the version" in moved
    files = Client(serving, ONE).files()
    assert files["etc-new"] == b"mine" and files["installed"] == b"program"
    assert files["other"] == b"theirs"
    assert files["etc/greeting"] == b"hello", "version 3 was made of what this client saw"
    run(tmp_path, "root", "drop", "notebook", "1", "--yes")
    assert not (versions / "1").exists()


BAD: list[tuple[tuple[str, ...], int, str]] = [
    (("root", "show", "notebok"), 2, "did you mean notebook?"),
    (("root", "use", "notebook", "7"), 2, "there is no version 7"),
    (("root", "diff", "notebook", "1", "x"), 2, "there is no version 1"),
    (("root", "edit", "notebook", "--", "/bin/nothing"), 1, "there is no /bin/nothing"),
    (("slate", "show", "tide-01"), 2, "tide-01 has no slate"),
    (("root", "seal", "notebook", "--from", "tide-09", "--yes"), 1, "tide-09 has no slate"),
]


@pytest.mark.parametrize(("words", "code", "said"), BAD)
def test_what_is_not_there(tmp_path: Path, words: tuple[Any, ...], code: int, said: str) -> None:
    lay_out(tmp_path, "keep")
    site = ("--site", tmp_path / "daskel.toml")
    done = daskel(*words[:2], *site, *words[2:])
    assert (done.returncode, said in done.stderr) == (code, True), done


def test_edit_leaves_nothing_mounted(tmp_path: Path) -> None:
    lay_out(tmp_path, "keep")
    tree = tmp_path / "roots/notebook"
    for name in ("bin", "proc", "dev"):
        (tree / name).mkdir()
    busybox = Path("/bin/busybox").read_bytes()
    (tree / "bin/busybox").write_bytes(busybox)
    (tree / "bin/busybox").chmod(0o755)
    script = "test -d /proc/self && test -c /dev/null && echo edited > /etc/greeting"
    words = ["root", "edit", "notebook", "--site", tmp_path / "daskel.toml", "--"]
    done = daskel(*words, "/bin/busybox", "sh", "-c", script)
    assert done.returncode == 0, done
    assert (tree / "etc/greeting").read_text() == "edited\n"
    assert not list((tree / "proc").iterdir()) and not (tree / "etc/resolv.conf").exists()
    assert str(tree) not in Path("/proc/self/mounts").read_text()


def test_what_answers_tftp_and_http_cannot_read_roots(tmp_path: Path, serve: Serve) -> None:
    lay_out(tmp_path, "keep")
    serving = serve(tmp_path)
    Client(serving, ONE).write("mine", b"secret")
    seen = Path(f"/proc/{serving.process.pid}/root")
    for folder in ("roots", "slates"):
        assert not list((seen / str(tmp_path / folder).lstrip("/")).iterdir()), folder
        assert list((tmp_path / folder).iterdir()), "others see it"
    status = Path(f"/proc/{serving.process.pid}/status").read_text()
    granted = next(int(line.split()[1], 16) for line in status.splitlines() if "CapPrm" in line)
    assert not granted & 1 << 21, "it cannot mount, so it cannot undo it"
    run(tmp_path, "apply", "--yes")
    moved = SiteText((tmp_path / "daskel.toml").read_text()).replace('"slates"', '"other"')
    (tmp_path / "daskel.toml").write_text(moved)
    assert "start it again" in daskel("apply", "--yes", "--site", tmp_path / "daskel.toml").stdout
    assert "mine" in Client(serving, ONE).files()


def replace_root(folder: Path, text: str) -> None:
    new = folder / f"new-{text}"
    (new / "etc/below").mkdir(parents=True)
    (new / "etc/below/greeting").write_text(text)
    site = ("--site", folder / "daskel.toml")
    done = daskel("root", "import", "notebook", new, "--replace", "--yes", *site)
    assert done.returncode == 0, done


def test_a_root_that_is_replaced_is_mounted_at_once(tmp_path: Path, serve: Serve) -> None:
    lay_out(tmp_path, "none")
    serving = serve(tmp_path)
    before = NfsRoot(serving.wire, ONE, SERVER, "/roots/notebook")
    for text in ("first", "second"):
        replace_root(tmp_path, text)
        for path in ("/roots/notebook", "/roots/notebook/etc/below"):
            root = NfsRoot(serving.wire, ONE, SERVER, path)
            handle = root.resolve("/greeting" if "below" in path else "/etc/below/greeting")
            assert handle and root.read(handle) == text.encode()
            root.close()
    with pytest.raises(BootError, match=f"status {Status.STALE}"):  # it runs on the old tree
        before.call(Procedure.GETATTR, pack_opaque(before.top))


def test_a_slate_of_a_root_that_is_replaced_says_so(tmp_path: Path, serve: Serve) -> None:
    lay_out(tmp_path, "keep")
    serving = serve(tmp_path)
    Client(serving, ONE).write("mine", b"kept")
    replace_root(tmp_path, "first")
    with pytest.raises(BootError):
        Client(serving, ONE)
    reason = serving.wait_for("mount-refused")["reason"]
    assert "was replaced since the slate was made" in reason
    serving.stop()
    site = ("--site", tmp_path / "daskel.toml")
    moved = daskel("slate", "rebase", "tide-01", "--to", "0", "--yes", *site)
    assert moved.returncode == 0, moved
    client = Client(serve(tmp_path), ONE)
    mine, below = client.root.resolve("/mine"), client.root.resolve("/etc/below/greeting")
    assert mine and client.root.read(mine) == b"kept"
    assert below and client.root.read(below) == b"first"


@pytest.mark.parametrize("slate", ["none", "fresh"])
def test_the_version_that_its_path_names(tmp_path: Path, serve: Serve, slate: str) -> None:
    """Is mounted, whatever was chosen since the path was handed out."""
    lay_out(tmp_path, slate)
    greeting = tmp_path / "roots/notebook/etc/greeting"
    for text in ("one", "two"):
        greeting.write_text(text)
        run(tmp_path, "root", "seal", "notebook", "--yes", "--use")
    greeting.write_text("tree")
    serving = serve(tmp_path)

    def read(address: IPv4Address, path: str) -> bytes:
        return dict(NfsRoot(serving.wire, address, SERVER, path).files())["etc/greeting"]

    assert read(ONE, "/roots/notebook@1") == b"one"
    assert read(TWO, "/roots/notebook") == b"two", "without a number: the one in use"
    with pytest.raises(BootError, match="no such file"):
        read(TWO, "/roots/notebook@9")
    assert "version 9 is gone" in serving.wait_for("mount-refused")["reason"]
    if slate == "none":
        assert read(ONE, "/roots/notebook@tree") == b"tree"
