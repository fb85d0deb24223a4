"""Empty virtual machines with real firmware (QEMU), and what is on their screens."""

from __future__ import annotations

import asyncio
import shutil
import socket
import subprocess
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pyte
from qemu.qmp import QMPClient, QMPError

from daskel.core.dhcp.client_messages import UBOOT
from daskel.rehearse import screen
from daskel.rehearse.keys import Press
from daskel.rehearse.network import Network
from daskel.system.requirements import MissingRequirementError

_FOLDERS = tuple(Path("/usr") / name for name in (
    "share/OVMF", "share/AAVMF", "lib/u-boot", "share/edk2/x64", "share/edk2/ovmf",
    "share/edk2/aarch64", "share/qemu", "share/qemu-efi-aarch64",
))  # fmt: skip
_SECURE = "uefi-x64 with Secure Boot"
_CODE = {  # by the kind of firmware: file names of the firmware itself, and of its variables
    "uefi-x64": (("OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd"), ("OVMF_CODE.fd", "OVMF_VARS.fd"),
             ("OVMF_CODE.4m.fd", "OVMF_VARS.4m.fd")),
    _SECURE: (("OVMF_CODE_4M.ms.fd", "OVMF_VARS_4M.ms.fd"),),  # with the keys of its makers
    "uefi-x86": (("OVMF32_CODE_4M.secboot.fd", "OVMF32_VARS_4M.fd"),),
    UBOOT: (("qemu_arm64/u-boot.bin", ""),),
    "uefi-arm64": (("AAVMF_CODE.fd", "AAVMF_VARS.fd"), ("QEMU_EFI.fd", "QEMU_VARS.fd")),
}  # fmt: skip
KINDS = (
    "bios", "uefi-x64", "uefi-x64-http", "uefi-x86", "uefi-x86-http", "uefi-arm64",
    "uefi-arm64-http", UBOOT,
)  # fmt: skip
_TEXT, _TEXT_SIZE = 0xB8000, 0x8000  # of a VGA card's memory, in its text mode
_ROM, _ROM_SIZE = 0xC0000, 0x10000  # where a VGA card has its ROM, with its font
_QMP_WAIT = 20.0  # seconds
_BETWEEN_KEYS = 0.15  # seconds: longer than a key is held down


@dataclass
class VirtualMachine:
    """A running virtual machine; `console` is what it wrote to its serial line."""

    process: subprocess.Popen[bytes]
    log: Path
    serial: Path
    monitor: Path
    keyboard: bool = True  # it has one, beside its serial line
    _letters: dict[bytes, str] = field(default_factory=dict)

    @property
    def console(self) -> str:
        """What it wrote to its serial line until now."""
        return self.log.read_bytes().decode("utf-8", "replace")

    @property
    def runs(self) -> bool:
        """It has not ended."""
        return self.process.poll() is None

    def picture(self, target: Path) -> None:
        """The machine's screen, as a PNG file. Raises OSError."""
        self._ask("screendump", filename=str(target.absolute()), format="png")

    def unplug(self, card: str) -> None:
        """Pull the cable of a card, by its name for QEMU. Raises OSError."""
        self._ask("set_link", name=card, up=False)

    def press(self, press: Press) -> None:
        """Press keys together; on its serial line where the machine has no keyboard. Raises
        OSError."""
        if self.keyboard:
            self._ask("send-key", keys=[{"type": "qcode", "data": key} for key in press.keys])
            time.sleep(_BETWEEN_KEYS)
            return
        with socket.socket(socket.AF_UNIX) as sock:
            sock.connect(str(self.serial))
            sock.sendall(press.serial.encode())

    def lines(self) -> list[str]:
        """The lines on the screen: of a VGA card in its text mode, else what a terminal on the
        serial line would show."""
        return self._vga() or self.terminal()

    def _vga(self) -> list[str]:
        picture, rom, held = (self.monitor.with_suffix(e) for e in (".ppm", ".rom", ".text"))

        def memory() -> bytes:
            self._ask("pmemsave", val=_TEXT, size=_TEXT_SIZE, filename=str(held))
            return held.read_bytes()

        try:
            self._ask("screendump", filename=str(picture))
            if not self._letters:
                self._ask("pmemsave", val=_ROM, size=_ROM_SIZE, filename=str(rom))
                self._letters = screen.font(rom.read_bytes())
            return screen.text(picture.read_bytes(), self._letters, memory)
        except OSError:
            return []

    def terminal(self) -> list[str]:
        """What a terminal of its size on the serial line would show."""
        shown = pyte.Screen(screen.COLUMNS, screen.ROWS)
        pyte.Stream(shown).feed(self.console.replace("\r\r\n", "\r\n"))
        return [line.rstrip() for line in shown.display]

    def _ask(self, command: str, **arguments: object) -> Any:
        """One command by QEMU's machine protocol. Raises OSError."""
        try:
            return asyncio.run(
                asyncio.wait_for(_execute(self.monitor, command, arguments), _QMP_WAIT)
            )
        except (QMPError, TimeoutError, EOFError) as error:
            raise OSError(f"QEMU: {error}") from None


async def _execute(monitor: Path, command: str, arguments: Mapping[str, object]) -> Any:
    client = QMPClient()
    await client.connect(str(monitor))
    try:
        return await client.execute(command, dict(arguments))
    finally:
        await client.disconnect()


def switch_on(  # noqa: PLR0913 - all that a machine is made of, by name
    network: Network, folder: Path, name: str, mac: str, firmware: str, *,
    card: str = "virtio-net-pci", memory: int = 768, more: Sequence[str] = (),
    secure_boot: bool = False, ipv6: bool = False,
    prepare: Callable[[Path], None] = lambda _: None,
) -> VirtualMachine:  # fmt: skip
    """An empty machine, one of `KINDS`, that boots from its network card; `memory` in MiB; `more`:
    other words for QEMU; `secure_boot`: as machines are sold, for uefi-x64; `ipv6`: UEFI asks over
    IPv6, not IPv4 (over HTTP, after IPv4). What it writes goes into `folder`, into files that begin
    with its name; `prepare` is given the one with the variables of UEFI before it is switched on.
    Raises MissingRequirementError."""
    arm, http = firmware in ("uefi-arm64", "uefi-arm64-http", UBOOT), firmware.endswith("-http")
    program = "qemu-system-aarch64" if arm else "qemu-system-x86_64"
    if not shutil.which(program):
        raise MissingRequirementError(
            f"{program} is not installed", "install QEMU: apt install qemu-system"
        )
    log, serial, monitor = (folder / f"{name}.{end}" for end in ("console", "serial", "monitor"))
    tap = f"t{abs(hash(name)) % 10**9}-{mac[-2:]}"
    network.add_tap(tap)
    rom = "" if firmware == "bios" else ",romfile="  # without one on the card, UEFI has its own
    machine = ["-M", "virt", "-device", "ramfb"] if arm else ["-vga", "std"]
    kind = _SECURE if secure_boot else firmware.removesuffix("-http")
    if kind in ("uefi-x86", _SECURE):  # whose firmware is built for it
        machine += ["-M", "q35,smm=on", "-global", "driver=cfi.pflash01,property=secure,value=on"]
    machine += ["-cpu", "cortex-a57" if firmware == UBOOT else "max"]
    process = network.start(
        program, "-accel", "tcg", "-m", str(memory), *machine,
        "-nodefaults", "-display", "none", "-no-reboot",
        "-qmp", f"unix:{monitor},server=on,wait=off",
        "-chardev", f"socket,id=serial,path={serial},server=on,wait=off,logfile={log}",
        "-serial", "chardev:serial",
        *more,
        "-netdev", f"tap,id=net,ifname={tap},script=no,downscript=no",
        "-device", f"{card},netdev=net,mac={mac},bootindex=1{rom}",
        *_firmware(folder, name, kind, _unused(http=http, ipv6=ipv6), prepare),
        log=folder / f"{name}.qemu",
    )  # fmt: skip
    log.touch()
    return VirtualMachine(process, log, serial, monitor, keyboard=not arm)


def _unused(*, http: bool, ipv6: bool) -> list[str]:
    """The ways that UEFI is not to try before the one that is wanted."""
    if http:
        return ["IPv6PXESupport", "IPv4PXESupport"]
    return ["IPv4PXESupport" if ipv6 else "IPv6PXESupport"]


def _firmware(
    folder: Path, name: str, kind: str, unused: Sequence[str], prepare: Callable[[Path], None]
) -> list[str]:
    if kind == "bios":
        return []
    pairs = [(place / code, place / own) for place in _FOLDERS for code, own in _CODE[kind]]
    code, own = next((pair for pair in pairs if all(p.exists() for p in pair)), (None, None))
    if code is None or own is None:
        remedy = "apt install ovmf qemu-efi-aarch64 ovmf-ia32 u-boot-qemu"
        raise MissingRequirementError(
            f"there is no {kind} firmware for virtual machines here", remedy
        )
    if kind == UBOOT:
        return ["-bios", str(code)]
    variables = folder / f"{name}.vars"
    shutil.copy(own, variables)
    prepare(variables)
    options = ["-drive", f"if=pflash,format=raw,readonly=on,file={code}"]
    options += ["-drive", f"if=pflash,format=raw,file={variables}"]
    for key in unused:
        options += ["-fw_cfg", f"name=opt/org.tianocore/{key},string=no"]
    return options
