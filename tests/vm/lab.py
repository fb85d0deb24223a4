"""A network of its own for virtual machines: a namespace with a bridge, and a tap for each."""

from __future__ import annotations

import itertools
import os
import shutil
import socket
import subprocess
import sys
import time
from dataclasses import dataclass, field
from pathlib import Path

SERVER = "10.61.8.1"
_COUNT = itertools.count()
_OVMF = Path("/usr/share/OVMF")


@dataclass
class Machine:
    """A running virtual machine; `console` is what it wrote to its serial line."""

    process: subprocess.Popen[bytes]
    log: Path
    serial: Path

    @property
    def console(self) -> str:
        return self.log.read_bytes().decode("utf-8", "replace")

    def wait_for(self, text: str, seconds: float) -> None:
        until = time.monotonic() + seconds
        while text not in self.console:
            assert self.process.poll() is None, f"switched off before {text!r}: {self.console}"
            assert time.monotonic() < until, f"no {text!r}: {self.console}"
            time.sleep(0.2)

    def press_return(self) -> None:
        self.type("")

    def type(self, line: str) -> None:
        with socket.socket(socket.AF_UNIX) as sock:
            sock.connect(str(self.serial))
            sock.sendall(line.encode() + b"\r")
            time.sleep(0.5)

    def picture(self, target: Path) -> None:
        """The machine's screen, as a PPM file."""
        with socket.socket(socket.AF_UNIX) as sock:
            sock.connect(str(self.serial.with_suffix(".monitor")))
            sock.recv(4096)
            sock.sendall(f"screendump {target}\n".encode())
            time.sleep(1)

    def said(self, key: str) -> str:
        """What stands behind `GUEST key` on the console."""
        lines = [line.partition(f"GUEST {key} ")[2].strip() for line in self.console.splitlines()]
        return next((line for line in lines if line), "")


@dataclass
class Lab:
    """Everything in it ends with `close`."""

    folder: Path
    name: str = field(default_factory=lambda: f"daskel-{os.getpid()}-{next(_COUNT)}")
    _processes: list[subprocess.Popen[bytes]] = field(default_factory=list)
    _server: subprocess.Popen[bytes] | None = None
    _clients: list[str] = field(default_factory=list)

    def open(self) -> None:
        self._ip("netns", "add", self.name)
        self.run("ip", "link", "set", "lo", "up")
        self.run("ip", "link", "add", "clients", "type", "bridge")
        self.run("ip", "address", "add", f"{SERVER}/24", "dev", "clients")
        self.run("ip", "link", "set", "clients", "up")

    def close(self) -> None:
        for process in self._processes:
            if process.poll() is None:
                process.terminate()
                process.wait(10)
        for name in (*self._clients, self.name):
            self._ip("netns", "delete", name)

    def add_client(self, address: str) -> str:
        """A namespace of its own for programs of a client; its name."""
        name = f"{self.name}-c"
        self._ip("netns", "add", name)
        self.run("ip", "link", "add", "client", "type", "veth", "peer", "eth0", "netns", name)
        self.run("ip", "link", "set", "client", "master", "clients", "up")
        self._clients.append(name)
        for words in (f"address add {address}/24 dev eth0", "link set eth0 up", "link set lo up"):
            self._ip("-n", name, *words.split())
        return name

    def _ip(self, *words: str) -> None:
        subprocess.run(["ip", *words], check=True, capture_output=True)

    def run(self, *command: str) -> str:
        inside = ["ip", "netns", "exec", self.name, *command]
        return subprocess.run(inside, check=True, capture_output=True, text=True).stdout

    def start(self, *command: str | Path, log: Path) -> subprocess.Popen[bytes]:
        inside = ["ip", "netns", "exec", self.name, *map(str, command)]
        process = subprocess.Popen(inside, stdout=log.open("wb"), stderr=subprocess.STDOUT)
        self._processes.append(process)
        return process

    @property
    def server_log(self) -> Path:
        return self.folder / "serve.log"

    def other_server(self, given: str) -> None:
        """A DHCP server beside Daskel, that gives addresses and knows nothing of booting."""
        program, own = (
            Path(__file__).parents[1] / "wire/other.py",
            SERVER.rpartition(".")[0] + ".250",
        )
        self.run("ip", "link", "add", "other", "type", "veth", "peer", "name", "other0")
        self.run("ip", "link", "set", "other0", "master", "clients", "up")
        name = f"{self.name}-o"
        self._ip("netns", "add", name)
        self._clients.append(name)
        self.run("ip", "link", "set", "other", "netns", name)
        for words in (f"address add {own}/24 dev other", "link set other up", "link set lo up"):
            self._ip("-n", name, *words.split())
        inside = ["ip", "netns", "exec", name, sys.executable, str(program)]
        log = (self.folder / "other.log").open("wb")
        self._processes.append(
            subprocess.Popen([*inside, "server", "other", own, given], stderr=log)
        )

    def server_on_this_machine(self, given: str) -> None:
        """The same, where Daskel runs: it holds port 67, and says that a PXE server is here."""
        program = Path(__file__).parents[1] / "wire/other.py"
        words = ["server", "clients", SERVER, given, "PXEClient"]
        self.start(sys.executable, program, *words, log=self.folder / "other.log")
        time.sleep(1)

    def serve(self, site: Path) -> None:
        """`daskel serve` as a user would run it, ready when this returns."""
        program, log = Path(sys.executable).with_name("daskel"), self.server_log
        self._server = self.start(program, "serve", "--site", site, log=log)
        for _ in range(200):
            if b" ready " in log.read_bytes():
                return
            assert self._server.poll() is None, log.read_text()
            time.sleep(0.1)
        raise AssertionError(log.read_text())

    def kill_server(self) -> None:
        """As suddenly as it goes."""
        assert self._server
        self._server.kill()
        self._server.wait()

    def boot(self, name: str, mac: str, firmware: str, card: str = "virtio-net-pci") -> Machine:
        """Switch on an empty machine: bios, uefi or uefi-http."""
        tap = f"tap-{name}"
        self.run("ip", "tuntap", "add", tap, "mode", "tap")
        self.run("ip", "link", "set", tap, "master", "clients", "up")
        log, serial = self.folder / f"{name}.console", self.folder / f"{name}.serial"
        process = self.start(
            "qemu-system-x86_64", "-accel", "tcg", "-cpu", "max", "-m", "768",
            "-nodefaults", "-display", "none", "-vga", "std", "-no-reboot",
            "-monitor", f"unix:{self.folder / name}.monitor,server=on,wait=off",
            "-chardev", f"socket,id=serial,path={serial},server=on,wait=off,logfile={log}",
            "-serial", "chardev:serial",
            "-netdev", f"tap,id=net,ifname={tap},script=no,downscript=no",
            "-device", f"{card},netdev=net,mac={mac},bootindex=1" + _rom(firmware),
            *self._firmware(name, firmware),
            log=self.folder / f"{name}.qemu",
        )  # fmt: skip
        log.touch()
        return Machine(process, log, serial)

    def _firmware(self, name: str, firmware: str) -> list[str]:
        if firmware == "bios":
            return []
        variables = self.folder / f"{name}.vars"
        shutil.copy(_OVMF / "OVMF_VARS_4M.fd", variables)
        options = ["-drive", f"if=pflash,format=raw,readonly=on,file={_OVMF / 'OVMF_CODE_4M.fd'}"]
        options += ["-drive", f"if=pflash,format=raw,file={variables}"]
        off = ["IPv6PXESupport"] + (["IPv4PXESupport"] if firmware == "uefi-http" else [])
        for key in off:
            options += ["-fw_cfg", f"name=opt/org.tianocore/{key},string=no"]
        return options


def _rom(firmware: str) -> str:
    """UEFI has its own network boot; without a loader on the card it is used."""
    return "" if firmware == "bios" else ",romfile="
