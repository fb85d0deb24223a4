"""A network of its own for virtual machines, and `daskel serve` in it as a user would run it."""

from __future__ import annotations

import json
import os
import shutil
import socket
import ssl
import struct
import subprocess
import sys
import time
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from daskel.rehearse import machine
from daskel.rehearse.network import BRIDGE, Network
from tests.conftest import PATIENCE, until

SERVER = "10.61.8.1"
OTHER = Path(__file__).parents[1] / "wire/other.py"
PROGRAM = Path(sys.executable).with_name("daskel")
# The beginning of a site file, to which keys of the segment can be added.
TIDEROOM = """format = 1
[site]
roots = "roots"
slates = "slates"
state = "state.db"
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
pool = ["10.61.8.100 - 10.61.8.199"]
args = ["console=ttyS0,115200"]
"""
# And more of it: machines of a room that boot a kernel of their own to a root that they share.
NOTEBOOK = """[root.notebook]
[loadout.notebook]
kernel = "notebook/vmlinuz"
initrd = "notebook/initrd.img"
root = "notebook"
args = ["quiet"]
[group.tide]
segment = "tideroom"
boot = "notebook"
"""
CI = "CI" in os.environ  # there a missing program is a failure


def with_machines(*programs: str, seconds: int = 2400) -> list[pytest.MarkDecorator]:
    """The marks of a file of tests with virtual machines, which need QEMU and `programs`."""
    missing = [name for name in ("qemu-system-x86_64", *programs) if not shutil.which(name)]
    return [
        pytest.mark.machine,
        pytest.mark.timeout(seconds),
        pytest.mark.skipif(os.geteuid() != 0 and not CI, reason="network namespaces need root"),
        pytest.mark.skipif(bool(missing) and not CI, reason=f"not installed: {missing}"),
    ]


def diagnosed(*words: str | Path) -> list[dict[str, Any]]:
    """What `daskel diagnose` finds."""
    command = [PROGRAM, "diagnose", *words, "--json"]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.stdout, done.stderr
    found: list[dict[str, Any]] = json.loads(done.stdout)
    return found


def _enrol(variables: Path, trusts: Mapping[str, Path]) -> None:
    """Certificates into a machine's variables, beside those that it is sold with."""
    program = PROGRAM.with_name("virt-fw-vars")
    owner = "d25ce1c0-0d5c-4d0e-9d60-5f9e5c3d6a11"  # the same at each boot: it is measured
    for where, certificate in trusts.items():
        words = [program, "--inplace", variables, f"--add-{where}", owner, certificate]
        subprocess.run(words, check=True, capture_output=True)


class Machine(machine.VirtualMachine):
    def wait_for(self, text: str) -> None:
        until(lambda: text in self.console or not self.runs, lambda: f"no {text!r}: {self.console}")
        assert text in self.console, f"switched off before {text!r}: {self.console}"

    def log_in(self) -> None:
        """As root, who has no password there."""
        self.wait_for("login:")
        self.type("root")
        self.wait_for(":~#")

    def type(self, line: str) -> None:
        with socket.socket(socket.AF_UNIX) as sock:
            sock.connect(str(self.serial))
            sock.sendall(line.encode() + b"\r")
            time.sleep(0.5)

    def said(self, key: str) -> str:
        """What stands behind `GUEST key` on the console."""
        lines = [line.partition(f"GUEST {key} ")[2].strip() for line in self.console.splitlines()]
        return next((line for line in lines if line), "")


@dataclass
class Lab:
    """Everything in it ends with `close`."""

    folder: Path
    _server: subprocess.Popen[bytes] | None = None
    _blocks: bool = False

    def open(self) -> None:
        self.network = Network([f"{SERVER}/24"])
        self.name, self.run, self.start = self.network.name, self.network.run, self.network.start

    def close(self) -> None:
        self.network.close()

    def add_ipv6(self, address: str) -> None:
        """An IPv6 address of the server, beside its other one."""
        self.run("ip", "address", "add", address, "dev", BRIDGE, "nodad")

    def daskel(self, *words: str) -> str:
        """What a command says that must succeed."""
        command = [PROGRAM, *words, "--site", self.folder / "daskel.toml"]
        return subprocess.run(command, check=True, capture_output=True, text=True).stdout

    def add_client(self, address: str) -> list[str]:
        """A namespace of its own for programs of a client; the words that run one in it."""
        return self.network.add_host("c", f"{address}/24")

    @property
    def server_log(self) -> Path:
        return self.folder / "serve.log"

    def other_server(self, given: str, *more: str) -> None:
        """A DHCP server beside Daskel, that gives addresses and knows nothing of booting."""
        own = SERVER.rpartition(".")[0] + ".250"
        inside = self.network.add_host("o", f"{own}/24")
        words = ["server", "eth0", own, given, *more]
        log = self.folder / "other.log"
        self.start(*inside, sys.executable, OTHER, *words, log=log)

    def block(self, address: str, protocol: str, port: int) -> None:
        """As a firewall would: what this client sends to a port goes nowhere (ip-rule(8))."""
        before = () if self._blocks else ("add pref 100 lookup local", "del pref 0")
        self._blocks = True
        for rule in (
            *before,
            f"add pref 10 from {address} ipproto {protocol} dport {port} blackhole",
        ):
            self.run("ip", "rule", *rule.split())

    def server_on_this_machine(self, given: str) -> None:
        """The same, where Daskel runs: it holds port 67, and says that a PXE server is here."""
        words = ["server", BRIDGE, SERVER, given, "PXEClient"]
        log = self.folder / "other.log"
        self.start(sys.executable, OTHER, *words, log=log)
        until(lambda: b"ready" in log.read_bytes(), log.read_text)

    def serve(self, site: Path, *more: str) -> None:
        """`daskel serve` as a user would run it, ready when this returns."""
        program, log = Path(sys.executable).with_name("daskel"), self.server_log
        self._server = self.start(program, "serve", "--site", site, *more, log=log)
        ends = self._server.poll
        until(lambda: b" ready " in log.read_bytes() or ends() is not None, log.read_text)
        assert ends() is None, log.read_text()

    def kill_server(self) -> None:
        """As suddenly as it goes."""
        assert self._server
        self._server.kill()
        self._server.wait()

    def stop_server(self) -> None:
        assert self._server
        self._server.terminate()
        self._server.wait(PATIENCE)

    def boot(
        self, name: str, mac: str, firmware: str, card: str = "virtio-net-pci",
        first_card: str | None = None, authorities: Path | None = None, *,
        secure_boot: bool = False, trusts: Mapping[str, Path] | None = None, ipv6: bool = False,
        disk: Path | None = None, tpm: Path | None = None, more: Sequence[str] = (),
    ) -> Machine:  # fmt: skip
        """Switch on an empty machine; `first_card`: the MAC address of another one, which has no
        cable; `tpm`: the folder of its TPM 2.0 (swtpm); `more`: words for QEMU; `authorities`: a file with a certificate that it trusts for HTTPS;
        `trusts`: certificates for Secure Boot, by where they are enrolled (db, mok)."""
        more = [*more]
        more += (
            ["-netdev", "hubport,id=none,hubid=1", "-device",
             f"{card},id=first,netdev=none,mac={first_card}"]
            if first_card else []
        )  # fmt: skip
        if disk:
            more += ["-drive", f"file={disk},format=raw,if=virtio"]
        if tpm:
            tpm.mkdir(exist_ok=True)
            at = self.folder / f"{name}.tpm"
            words = ("socket", "--tpm2", "--tpmstate", f"dir={tpm}", "--terminate")
            self.start("swtpm", *words, "--ctrl", f"type=unixio,path={at}", log=tpm / "log")
            until(at.exists, lambda: "swtpm does not listen")
            more += [
                "-chardev",
                f"socket,id=tpm,path={at}",
                "-tpmdev",
                "emulator,id=tpm0,chardev=tpm",
            ]
            more += ["-device", "tpm-tis,tpmdev=tpm0"]
        if authorities:
            trusted = self.folder / f"{name}.authorities"
            trusted.write_bytes(_signature_list(authorities))
            more += ["-fw_cfg", f"name=etc/edk2/https/cacerts,file={trusted}"]
        made = machine.switch_on(
            self.network,
            self.folder,
            name,
            mac,
            firmware,
            card=card,
            more=more,
            secure_boot=secure_boot,
            ipv6=ipv6,
            prepare=lambda variables: _enrol(variables, trusts or {}),
        )
        if first_card:
            until(made.monitor.exists, lambda: "QEMU does not listen")
            made.unplug("first")
        return Machine(made.process, made.log, made.serial, made.monitor)


def _signature_list(certificate: Path) -> bytes:
    """A certificate as firmware takes those that it trusts: EFI_SIGNATURE_LIST of the type X.509
    (UEFI 2.10, 32.4.1)."""
    data = ssl.PEM_cert_to_DER_cert(certificate.read_text())
    x509 = uuid.UUID("a5c059a1-94e4-4aa7-87b5-ab155c2bf072").bytes_le
    owner = uuid.UUID("d25ce1c0-0d5c-4d0e-9d60-5f9e5c3d6a11").bytes_le
    size = len(owner) + len(data)
    return x509 + struct.pack("<3I", 28 + size, 0, size) + owner + data
