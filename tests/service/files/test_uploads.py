"""Files that clients deliver over TFTP, by a rule of the site; and limits of a segment."""

from __future__ import annotations

import socket
import subprocess
import threading
import time
from pathlib import Path

import pytest

from daskel.core.tftp.packet import Error, ErrorCode, Opcode, Request, parse
from daskel.rehearse.client import get_address
from tests.conftest import PATIENCE, Serve, Serving, SiteText, daskel
from tests.service.test_serve import SERVER, SYSTEM

RULES = """
[upload."logs/{{ client.name }}/*"]
size = "2 kB"
files = 2

[upload."registration/*"]
"""


@pytest.fixture
def serving(demo_folder: Path, serve: Serve) -> Serving:
    with (demo_folder / "daskel.toml").open("a") as file:
        file.write(RULES)
    return serve(demo_folder)


def address(serving: Serving, number: int, kind: str = "08") -> str:
    mac = f"02:61:{kind}:00:00:0{number}"
    return serving.wire.outside(get_address(serving.wire, SERVER, SYSTEM, mac, number).yiaddr)


def put(serving: Serving, own: str, path: str, data: bytes, *more: str) -> str:
    """What curl says; nothing when it was taken."""
    (serving.folder / "sent").write_bytes(data)
    url = f"tftp://{serving.address()}:{serving.wire.ports.tftp}/{path}"
    words = ["curl", "-sS", "-m", "20", "--interface", own, *more, "-T", serving.folder / "sent"]
    return subprocess.run([*words, url], capture_output=True, text=True, check=False).stderr


def refusal(serving: Serving, own: str, path: str) -> ErrorCode:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.bind((own, 0))
        sock.settimeout(PATIENCE)
        request = Request(Opcode.WRITE, path.encode(), "octet").serialise()
        sock.sendto(request, (serving.address(), serving.wire.ports.tftp))
        answer = parse(sock.recv(1000))
    assert isinstance(answer, Error), answer
    return ErrorCode(answer.code)


def test_clients_deliver_new_files_into_their_own_folder(serving: Serving) -> None:
    one, two, stranger = address(serving, 1), address(serving, 2), address(serving, 1, "ff")
    logs = serving.folder / "uploads/logs/tide-01"
    log = bytes(range(256)) * 6
    assert not put(serving, one, "logs/tide-01/boot.log", log)
    assert not put(serving, one, "logs/tide-01/empty", b"", "--tftp-no-options")
    assert (logs / "boot.log").read_bytes() == log and (logs / "empty").read_bytes() == b""
    event = serving.wait_for("file-received", path="logs/tide-01/boot.log")
    assert (event["client"], event["size"]) == ("tide-01", len(log))
    for who, path, code in (
        (one, "notebook/vmlinuz", ErrorCode.ACCESS),
        (one, "logs/tide-01/../x", ErrorCode.ACCESS),
        (one, "logs/tide-02/x", ErrorCode.ACCESS),
        (one, "logs/tide-01/.x", ErrorCode.ACCESS),
        (one, "logs/tide-01/more/x", ErrorCode.ACCESS),
        (stranger, "logs/tide-01/x", ErrorCode.ACCESS),
        (one, "logs/tide-01/boot.log", ErrorCode.EXISTS),
        (one, "logs/tide-01/third", ErrorCode.FULL),
    ):
        assert refusal(serving, who, path) is code, path
    assert sorted(path.name for path in logs.iterdir()) == ["boot.log", "empty"]
    assert (logs / "boot.log").read_bytes() == log
    assert put(serving, two, "logs/tide-02/large", bytes(2001)), "announced in tsize"
    assert put(serving, two, "logs/tide-02/large", bytes(2001), "--tftp-no-options")
    assert not list((serving.folder / "uploads/logs/tide-02").iterdir()), "nothing half done"
    assert not put(serving, stranger, "registration/02-61-ff", b"here I am")
    third = serving.wait_for("file-aborted", path="logs/tide-01/third")
    assert third["reason"] == "write: there are 2 files already (third)"


def test_busybox_delivers(serving: Serving) -> None:
    (serving.folder / "sent").write_bytes(b"registered")
    words = ["busybox", "tftp", "-p", "-l", serving.folder / "sent", "-r", "registration/one"]
    where = [serving.address(), str(serving.wire.ports.tftp)]
    subprocess.run([*words, *where], check=True, timeout=PATIENCE, capture_output=True)
    assert (serving.folder / "uploads/registration/one").read_bytes() == b"registered"


def test_wrong_rules(demo_folder: Path) -> None:
    with (demo_folder / "daskel.toml").open("a") as file:
        file.write('[upload."logs"]\n[upload."reg/*"]\nsize = "1"\n[upload."{{ client.nam }}/*"]\n')
    said = daskel("check", cwd=demo_folder).stdout
    assert "must end with /*" in said and "is not a size" in said
    assert "is one for no client" in said


def test_the_bandwidth_of_a_segment_is_shared(demo_folder: Path, serve: Serve) -> None:
    """Ten lock-step clients and one over HTTP: together no faster than allowed, and nobody waits
    for the others' end."""
    size, rate = 20_000, 100 << 10
    (demo_folder / "files/large").write_bytes(bytes(size))
    text = SiteText((demo_folder / "daskel.toml").read_text())
    server = 'server = "10.61.8.1"\n'
    limited = text.replace(server, server + 'bandwidth = "100 KiB/s"\n', 1)
    (demo_folder / "daskel.toml").write_text(limited)
    serving = serve(demo_folder)
    ports, ends = serving.wire.ports, {}
    urls = [f"tftp://{serving.address()}:{ports.tftp}/large"] * 10
    urls += [f"http://{serving.address()}:{ports.http}/large"]

    def fetch(number: int, url: str) -> None:
        words = ["curl", "-sS", "-m", "60", "-o", f"{demo_folder}/got-{number}", url]
        subprocess.run(words, check=True)
        ends[number] = time.monotonic()

    threads = [threading.Thread(target=fetch, args=each) for each in enumerate(urls)]
    began = time.monotonic()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    took = [end - began for end in ends.values()]
    assert len(took) == 11
    assert max(took) > 0.9 * 11 * size / rate, "no faster than allowed"
    for number in range(11):
        assert (demo_folder / f"got-{number}").stat().st_size == size
