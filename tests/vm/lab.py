"""A network of its own for virtual machines: a namespace with a bridge, and a tap for each."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from dataclasses import dataclass, field
from pathlib import Path

SERVER = "10.61.8.1"
_OVMF = Path("/usr/share/OVMF")


@dataclass
class Machine:
    """A running virtual machine; `console` is what it wrote to its serial line."""

    process: subprocess.Popen[bytes]
    log: Path

    @property
    def console(self) -> str:
        return self.log.read_bytes().decode("utf-8", "replace")

    def wait(self, seconds: float) -> str:
        """The whole console after the machine switched itself off."""
        try:
            self.process.wait(seconds)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()
        return self.console

    def said(self, key: str) -> str:
        """What stands behind `GUEST key` on the console."""
        lines = [line.partition(f"GUEST {key} ")[2].strip() for line in self.console.splitlines()]
        return next((line for line in lines if line), "")


@dataclass
class Lab:
    """Everything in it ends with `close`."""

    folder: Path
    name: str = field(default_factory=lambda: f"daskel-{os.getpid()}")
    _processes: list[subprocess.Popen[bytes]] = field(default_factory=list)

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
        self._ip("netns", "delete", self.name)

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

    def serve(self, site: Path, log: Path) -> subprocess.Popen[bytes]:
        """`daskel serve`, ready when this returns."""
        process = self.start(shutil.which("daskel") or "daskel", "serve", "--site", site, log=log)
        for _ in range(200):
            if b" ready " in log.read_bytes():
                return process
            assert process.poll() is None, log.read_text()
            time.sleep(0.1)
        raise AssertionError(log.read_text())

    def boot(self, name: str, mac: str, firmware: str) -> Machine:
        """Switch on an empty machine: bios, uefi or uefi-http."""
        tap = f"tap-{name}"
        self.run("ip", "tuntap", "add", tap, "mode", "tap")
        self.run("ip", "link", "set", tap, "master", "clients", "up")
        log = self.folder / f"{name}.console"
        process = self.start(
            "qemu-system-x86_64", "-accel", "tcg", "-cpu", "max", "-m", "768",
            "-nodefaults", "-display", "none", "-no-reboot", "-serial", f"file:{log}",
            "-netdev", f"tap,id=net,ifname={tap},script=no,downscript=no",
            "-device", f"virtio-net-pci,netdev=net,mac={mac},bootindex=1" + _rom(firmware),
            *self._firmware(name, firmware),
            log=self.folder / f"{name}.qemu",
        )  # fmt: skip
        log.touch()
        return Machine(process, log)

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
