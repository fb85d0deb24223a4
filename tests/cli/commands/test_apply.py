"""A running server is asked and changed through its own socket."""

from __future__ import annotations

import json
import os
import signal
import socket
import stat
from ipaddress import IPv4Address
from pathlib import Path

import pytest

from daskel.core.audit.diff import Change, differences
from daskel.core.dhcp.client_messages import Face
from daskel.core.dhcp.pxe import Firmware
from daskel.core.tftp.packet import Ack, Opcode, Request
from daskel.rehearse.client import boot
from daskel.rehearse.fetch import Way
from tests.conftest import DEMO, PATIENCE, Serve, daskel, site_from


def test_what_changes_for_whom() -> None:
    after = DEMO.replace('"quiet", "console=tty0"', '"verbose", "console=tty0"', 1)
    after = after.replace('lease = "1d"', 'lease = "2d"').replace(
        'address = "10.61.9.24"', 'boot = "rescue"'
    )
    after = after.replace('desk-broker = "broker.', 'desk-broker = "other.')
    after = after.replace("client.buoy-6", "client.buoy-7")
    tide = tuple(f"tide-{n:02}" for n in range(1, 13))
    assert differences(site_from(DEMO), site_from(after)) == [
        Change("segment boathouse: lease 1d -> 2d"),
        Change("argument verbose added", tide),
        Change("option desk-broker broker.skerry.example -> other.skerry.example", tide),
        Change("argument quiet removed", (*tide[1:], "lib-04")),
        Change("address 10.61.9.24 -> from the pool", ("lib-04",)),
        Change("boot catalogue -> rescue", ("lib-04",)),
        Change("loads catalogue/vmlinuz -> rescue/vmlinuz", ("lib-04",)),
        Change("initrd catalogue/initrd.img -> rescue/initrd.img", ("lib-04",)),
        Change("root catalogue -> (none)", ("lib-04",)),
        Change("argument screen.page=http://{{ segment.server }}/catalogue removed", ("lib-04",)),
        Change("added", ("buoy-7",)),
        Change("removed", ("buoy-6",)),
    ]
    assert not differences(site_from(DEMO), site_from(DEMO))
    more = DEMO.replace("[client.tide-02]", '[client.tide-02]\nboot-file = "own.bin"')
    more = more.replace('text = "{{ arguments }}', 'text = "{{ kernel }}').replace(
        "code = 224", "code = 225"
    )
    more += '\n[firmware.desk]\nuser-class = "desk-*"\n'
    assert differences(site_from(DEMO), site_from(more)) == [
        Change("option desk-broker changed"),
        Change("firmware desk added"),
        Change("file boards/{{ client.mac_dashed }}/cmdline.txt changed"),
        Change("boot file (default) Daskel's -> own.bin", ("tide-02",)),
    ]


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
    assert "Nothing was changed." in asked.stdout and status()["clients"] == 22
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
    good = site.read_text()
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
    for line in (b"noise\n", b"[]\n", b'{"do": "dance"}\n', b"x" * 100_000 + b"\n"):
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
