"""What monitoring sees: metrics, readiness, levels of the log; and clients that tell they are up."""

from __future__ import annotations

import http.client
import json
import socket
import subprocess
import time
from ipaddress import IPv4Address
from pathlib import Path

import pytest
from prometheus_client.parser import text_string_to_metric_families

from daskel.core.content import up
from daskel.core.dhcp.client_messages import FACES
from daskel.core.reader import MalformedError
from daskel.demo.data import lay_out
from daskel.rehearse.client import boot
from tests.conftest import PATIENCE, Serve, Serving, SiteText, until

SERVER, MAC = IPv4Address("10.61.8.1"), "02:61:08:00:00:01"


def request(
    serving: Serving, source: str, method: str, path: str, body: bytes = b""
) -> tuple[int, str]:
    target = (serving.address(), serving.wire.ports.http)
    connection = http.client.HTTPConnection(*target, timeout=PATIENCE, source_address=(source, 0))
    connection.request(method, path, body)
    answer = connection.getresponse()
    return answer.status, answer.read().decode()


def test_metrics_and_readiness_and_levels(tmp_path: Path, serve: Serve) -> None:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    site = lay_out(tmp_path)
    text = SiteText(site.read_text()).replace(
        'state = "', f'metrics = "127.0.0.1:{port}"\nstate = "', 1
    )
    site.write_text(text)
    manager = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
    manager.bind(str(tmp_path / "notify"))
    manager.settimeout(PATIENCE)
    serving = serve(tmp_path, "env", f"NOTIFY_SOCKET={tmp_path}/notify", more=["--level", "debug"])
    assert manager.recv(500) == b"READY=1\nSTATUS=22 clients"

    result = boot(serving.wire, SERVER, "tide-01", MAC, FACES["bios"], lambda _: None)
    assert not result.problem
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=PATIENCE)
    connection.request("GET", "/metrics")
    families = text_string_to_metric_families(connection.getresponse().read().decode())
    values = {(s.name, *s.labels.values()): s.value for f in families for s in f.samples}
    sent = sum(got.size for got in result.files if got.what != "root")
    both = (values["daskel_sent_bytes_total", over] for over in ("tftp", "http"))
    assert sum(both) == sent
    assert values["daskel_clients",] == 22 and values["daskel_leases",] == 1
    assert values["daskel_clients_at_stage", "root"] == 1
    assert values["daskel_events_total", "file-sent"] == 4

    levels = {event["event"]: event["level"] for event in serving.events()}
    assert (levels["file-asked"], levels["file-sent"]) == ("debug", "info")
    serving.stop()
    assert manager.recv(500) == b"STOPPING=1"


def test_only_what_needs_attention(tmp_path: Path, serve: Serve) -> None:
    lay_out(tmp_path)
    log = tmp_path / "log"
    serving = serve(tmp_path, more=["--level", "info"])
    with log.open("wb") as out:
        base = str(serving.wire.ports.dhcp - 67)
        serving.stop()
        words = ["--site", tmp_path / "daskel.toml", "--loopback", base, "--level", "warning"]
        command = [serving.process.args[0], "serve", *words]  # type: ignore[index]
        quiet = subprocess.Popen(command, stdout=out)
    again = Serving(tmp_path, quiet, log, serving.wire)
    try:
        url = f"tftp://{again.address()}:{again.wire.ports.tftp}/nothing"
        asked = ["curl", "-s", "-m", "2", url]
        not_found = 68  # curl(1): no such file on the TFTP server
        until(lambda: subprocess.run(asked, check=False).returncode == not_found, "an answer")
        until(log.read_text, "a line of the log")
        assert log.read_text().count("\n") == 1 and "missing" in log.read_text()
    finally:
        again.stop()


def test_a_client_tells_that_it_is_up(tmp_path: Path, serve: Serve) -> None:
    lay_out(tmp_path)
    serving = serve(tmp_path)
    boot(serving.wire, SERVER, "tide-01", MAC, FACES["bios"], lambda _: None)
    own = serving.wire.outside(IPv4Address("10.61.8.21"))
    status, script = request(serving, own, "GET", "/daskel/up.sh")
    assert status == 200 and f"server=10.61.8.1 port={serving.wire.ports.http}" in script
    assert subprocess.run(["sh", "-n"], input=script, text=True, check=False).returncode == 0
    told = up.told(12.5, "quiet root=/dev/nfs")
    assert request(serving, own, "POST", "/daskel/up", told) == (200, "good\n")
    event = serving.wait_for("up")
    assert (event["client"], event["uptime"], event["stage"]) == ("tide-01", 12.5, "up")
    for wait in (0.0, 0.05):  # nc closes its side as soon as it has asked
        with socket.create_connection(
            (serving.address(), serving.wire.ports.http), PATIENCE, (own, 0)
        ) as asking:
            head = f"POST /daskel/up HTTP/1.0\r\nContent-Length: {len(told)}\r\n\r\n"
            asking.sendall(head.encode() + told)
            time.sleep(wait)
            asking.shutdown(socket.SHUT_WR)
            assert asking.makefile().read().endswith("\r\n\r\ngood\n".replace("\r\n", "\n"))
    assert request(serving, own, "POST", "/daskel/up", b"x=1")[0] == 400
    assert request(serving, own, "POST", "/daskel/up", bytes(20_000))[0] == 413
    assert request(serving, "127.61.8.77", "POST", "/daskel/up", told)[0] == 403


@pytest.mark.parametrize("tool", ["curl", "bash", "busybox", "perl"])
def test_the_script_tells_with_what_there_is(tmp_path: Path, tool: str) -> None:
    """With each of the programs alone that it can do it with, against a server that answers once."""
    if not Path(f"/usr/bin/{tool}").exists() and not Path(f"/bin/{tool}").exists():
        pytest.fail(f"{tool} is not installed")
    folder = tmp_path / "bin"
    folder.mkdir()
    for name in ("sh", "cat", "uname", "grep", tool):
        real = next(p for p in (Path(f"/usr/bin/{name}"), Path(f"/bin/{name}")) if p.exists())
        (folder / name).symlink_to(real)
    with socket.socket() as listening:
        listening.bind(("127.0.0.1", 0))
        listening.listen()
        listening.settimeout(PATIENCE)
        text = up.script(IPv4Address("127.0.0.1"), listening.getsockname()[1])
        client = subprocess.Popen(["/bin/sh", "-c", text], env={"PATH": str(folder)})
        sock, _ = listening.accept()
        with sock:
            data = b""
            while b"arguments=" not in data:
                data += sock.recv(65536)
            sock.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\nConnection: close\r\n\r\ngood\n")
            sock.shutdown(socket.SHUT_WR)
            body = data.partition(b"\r\n\r\n")[2]
            uptime, kernel, arguments = up.parse(body)
            assert uptime > 0 and kernel and arguments == Path("/proc/cmdline").read_text().strip()
        assert client.wait(PATIENCE) == 0


@pytest.mark.parametrize(
    "body",
    [b"", b"uptime=1", b"uptime=x\nkernel=6\narguments=", b"uptime=-1\nkernel=6\narguments=",
     b"uptime=1\nkernel=\x1b[31m\narguments=", b"uptime=nan\nkernel=6\narguments="],
)  # fmt: skip
def test_what_is_not_told_rightly(body: bytes) -> None:
    with pytest.raises(MalformedError):
        up.parse(body)


def test_json_is_one_event_a_line(tmp_path: Path, serve: Serve) -> None:
    lay_out(tmp_path)
    serving = serve(tmp_path)
    boot(serving.wire, SERVER, "tide-01", MAC, FACES["uefi-x64"], lambda _: None)
    serving.stop()
    lines = [json.loads(line) for line in serving.log.read_text().splitlines()]
    assert all({"time", "event", "level"} <= line.keys() for line in lines)
