"""A running server is asked and changed through its own socket."""

from __future__ import annotations

import json
import os
import signal
import socket
import stat
from ipaddress import IPv4Address
from pathlib import Path
from urllib.request import urlopen

import pytest

from daskel.core.dhcp.client_messages import Face
from daskel.core.dhcp.pxe import Firmware
from daskel.core.tftp.packet import Ack, Opcode, Request
from daskel.rehearse.client import boot
from daskel.rehearse.fetch import Way
from tests.conftest import PATIENCE, Serve, SiteText, daskel, replaced

METRICS = 27990
TAKEN_OVER = [  # changes that a running server takes over one after the other, and what is said
    ('wait = "10s"', 'wait = "20s"', "set timeout=10 -> set timeout=20"),
    ('default = "notebook"', 'default = "rescue"', "set default=notebook -> set default=rescue"),
    ("[loadout.rescue]", '[loadout.rescue]\ntitle = "Help"', "menuentry Help"),
    ('state = "state.db"', 'state = "state.db"\nkeep-boots = "30d"', "the server's own affair"),
    ('state = "state.db"', f'state = "state.db"\nmetrics = "127.0.0.1:{METRICS}"', "No client notices"),
    ('loaders = ["bios", "uefi-x64", "uefi-arm64"]', 'loaders = ["bios", "uefi-x64"]', "boot file"),
    ("# --- networks", "# --- the networks", "comments, order or spacing"),
]  # fmt: skip


def test_apply_and_status(serve: Serve, demo_folder: Path) -> None:
    assert daskel("apply", cwd=demo_folder).returncode == 3
    assert daskel("status", cwd=demo_folder).returncode == 1
    serving = serve(demo_folder)

    def status() -> dict[str, object]:
        found: dict[str, object] = json.loads(daskel("status", "--json", cwd=demo_folder).stdout)
        return found

    first = status()
    assert (first["running"], first["clients"], first["differs"]) == (True, 22, False)
    assert first["process"] == serving.process.pid
    daskel("client", "add", "tide-13", "mac=02:61:08:00:00:0d", "group=tide", cwd=demo_folder)
    assert status()["differs"] is True
    shown = daskel("apply", "--dry-run", cwd=demo_folder)
    assert shown.returncode == 0 and "tide-13: added" in shown.stdout
    asked = daskel("apply", cwd=demo_folder)  # nobody there to agree
    assert asked.returncode == 2 and "give --yes" in asked.stderr and status()["clients"] == 22
    under_way = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    under_way.settimeout(PATIENCE)
    target = (serving.address(), serving.wire.ports.tftp)
    under_way.sendto(Request(Opcode.READ, b"notebook/vmlinuz", "octet").serialise(), target)
    _, peer = under_way.recvfrom(2048)
    done = daskel("apply", "--yes", cwd=demo_folder)
    assert done.returncode == 0 and "23 clients" in done.stdout
    with under_way:  # block 1 came again meanwhile; what follows its acknowledgement is block 2
        under_way.sendto(Ack(1).serialise(), peer)
        while (block := under_way.recv(2048)[:4]) == b"\0\3\0\1":
            pass
    assert block == b"\0\3\0\2"
    assert (status()["clients"], status()["differs"]) == (23, False)
    assert "has this site already" in daskel("apply", cwd=demo_folder).stdout

    site = demo_folder / "daskel.toml"
    good = SiteText(site.read_text())
    for old, new, said in TAKEN_OVER:
        site.write_text(replaced(site.read_text(), old, new))
        assert status()["differs"] is True
        shown = daskel("apply", "--yes", cwd=demo_folder)
        assert shown.returncode == 0 and said in shown.stdout, shown.stdout
        assert "Taken over" in shown.stdout and status()["differs"] is False
    with urlopen(f"http://127.0.0.1:{METRICS}/metrics") as metrics:
        assert b"daskel_clients 23" in metrics.read()
    site.write_text(good)
    assert daskel("apply", "--yes", cwd=demo_folder).returncode == 0
    with pytest.raises(OSError):
        urlopen(f"http://127.0.0.1:{METRICS}/metrics")
    site.write_text(good.replace('boot = "catalogue"', 'boot = "catalog"'))
    wrong = daskel("apply", "--yes", cwd=demo_folder)
    assert wrong.returncode == 1 and "did you mean catalogue?" in wrong.stdout
    site.write_text(good.replace('server = "10.61.9.1"', 'server = "10.61.9.2"'))
    moved = daskel("apply", "--yes", cwd=demo_folder)
    assert moved.returncode == 1 and "start it again" in moved.stdout
    assert status()["clients"] == 23 and serving.process.poll() is None


def test_the_socket(serve: Serve, demo_folder: Path) -> None:
    serving = serve(demo_folder)
    path = demo_folder / "state.socket"
    assert stat.S_IMODE(path.stat().st_mode) == 0o660
    slate = b'{"do": "slate", "root": "notebook", "how": "wipe", "client": %s}\n'
    refused = [slate % name for name in (b'""', b'"."', b'"../notebook"', b'"a/b"')]
    once = b'{"do": "once", "client": "", "boot": "rescue"}\n'
    surplus = b'{"do": "status", "more": 1}\n'
    noise = [b"noise\n", b"[]\n", b'{"do": "dance"}\n', b"x" * 100_000 + b"\n", once, surplus]
    for line in (*noise, *refused):
        with socket.socket(socket.AF_UNIX) as sock:
            sock.connect(str(path))
            sock.sendall(line)
            answer = sock.makefile("rb").readline()
            assert not answer or "error" in json.loads(answer)
    second = daskel("serve", "--loopback", "--site", demo_folder / "daskel.toml")
    assert second.returncode == 3 and "another server runs" in second.stderr
    serving.stop(signal.SIGKILL)
    assert path.exists()
    assert daskel("status", cwd=demo_folder).returncode == 1
    again = serve(demo_folder)
    assert daskel("status", cwd=demo_folder).returncode == 0
    assert again.stop() == 0 and not path.exists()


def test_only_the_servers_user_may_change_it(serve: Serve, demo_folder: Path) -> None:
    serve(demo_folder)
    if os.geteuid() != 0:
        pytest.skip("only root can become somebody else")
    path = demo_folder / "state.socket"
    path.chmod(0o666)
    for folder in (demo_folder, *list(demo_folder.parents)[:-2]):
        folder.chmod(folder.stat().st_mode | 0o011)
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        os.setuid(65534)
        with socket.socket(socket.AF_UNIX) as sock:
            sock.connect(str(path))
            sock.sendall(b'{"do": "apply"}\n')
            os.write(writing, sock.recv(4096))
        os._exit(0)
    os.waitpid(child, 0)
    assert "only the server's user" in json.loads(os.read(reading, 4096))["error"]


def test_once_and_then_as_before(serve: Serve, demo_folder: Path) -> None:
    def boots() -> tuple[str, str]:
        before = len(serving.events("mounted"))
        result = boot(
            serving.wire,
            IPv4Address("10.61.9.1"),
            "lib-01",
            "02:61:09:00:00:01",
            Face.of(Firmware.UEFI),
            lambda _: None,
            Way(address=IPv4Address("10.61.9.21")),
        )
        assert not result.problem, result.problem
        kernel = next(got.path for got in result.files if got.what == "kernel")
        mounted = serving.events("mounted")[before:]
        return kernel, mounted[0]["root"] if mounted else ""

    def listed() -> str | None:
        rows = json.loads(daskel("client", "list", "--json", cwd=demo_folder).stdout)
        found: str | None = next(row for row in rows if row["name"] == "lib-01")["once"]
        return found

    assert daskel("assign", "lib-01", "rescue", "--once", cwd=demo_folder).returncode == 0
    serving = serve(demo_folder)
    assert listed() == "rescue" and boots() == ("rescue/vmlinuz", "")
    assert boots() == ("catalogue/vmlinuz", "catalogue")
    assert daskel("assign", "lib-01", "notebook", "--once", cwd=demo_folder).returncode == 0
    explained = daskel("explain", "lib-01", "--all", cwd=demo_folder).stdout
    assert "notebook/vmlinuz" in explained and "by assign --once" in explained
    assert boots() == ("notebook/vmlinuz", "notebook")
    assert listed() is None and boots() == ("catalogue/vmlinuz", "catalogue")
    daskel("assign", "lib-01", "rescue", "--once", cwd=demo_folder)
    assert "boots as always" in daskel("assign", "lib-01", "--undo", cwd=demo_folder).stdout
    assert listed() is None and boots() == ("catalogue/vmlinuz", "catalogue")
    for words, said in (
        (["lib", "rescue", "--once"], "is a group"),
        (["lib-01", "tideroom", "--once"], "no loadout"),
        (["lib-01"], "what shall it boot"),
        (["lib-01", "rescue", "--undo"], "without something to boot"),
    ):
        done = daskel("assign", *words, cwd=demo_folder)
        assert done.returncode == 2 and said in done.stderr
