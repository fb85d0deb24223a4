"""What network boot adds to DHCP: architectures, PXE and HTTP boot options (RFC 4578, 5970).

What each firmware needs in its reply is measured with real firmware by `tests/vm`.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import Enum

from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import Packet

# IANA registry "Processor Architecture Types" (RFC 5970 3.3)
ARCHITECTURES = {
    0: "x86 BIOS",
    1: "NEC/PC98",
    2: "Itanium",
    3: "DEC Alpha",
    4: "Arc x86",
    5: "Intel Lean Client",
    6: "x86 UEFI",
    7: "x64 UEFI",
    8: "EFI Xscale",
    9: "EBC",
    10: "ARM 32-bit UEFI",
    11: "ARM 64-bit UEFI",
    12: "PowerPC Open Firmware",
    13: "PowerPC ePAPR",
    14: "POWER OPAL v3",
    15: "x86 UEFI boot from HTTP",
    16: "x64 UEFI boot from HTTP",
    17: "EBC boot from HTTP",
    18: "ARM UEFI 32 boot from HTTP",
    19: "ARM UEFI 64 boot from HTTP",
    20: "x86 BIOS boot from HTTP",
    21: "ARM 32 U-Boot",
    22: "ARM 64 U-Boot",
    23: "ARM U-Boot 32 boot from HTTP",
    24: "ARM U-Boot 64 boot from HTTP",
    25: "RISC-V 32-bit UEFI",
    26: "RISC-V 32-bit UEFI boot from HTTP",
    27: "RISC-V 64-bit UEFI",
    28: "RISC-V 64-bit UEFI boot from HTTP",
    29: "RISC-V 128-bit UEFI",
    30: "RISC-V 128-bit UEFI boot from HTTP",
    31: "s390 Basic",
    32: "s390 Extended",
    33: "MIPS 32-bit UEFI",
    34: "MIPS 64-bit UEFI",
    35: "Sunway 32-bit UEFI",
    36: "Sunway 64-bit UEFI",
    37: "LoongArch 32-bit UEFI",
    38: "LoongArch 32-bit UEFI boot from HTTP",
    39: "LoongArch 64-bit UEFI",
    40: "LoongArch 64-bit UEFI boot from HTTP",
    41: "ARM rpiboot",
}


_PROCESSORS = {
    "x86": {0, 6, 7, 9, 15, 16, 20},
    "arm": {10, 18, 21, 23},
    "arm64": {11, 19, 22, 24},
    "riscv": {*range(25, 31)},
    "loongarch": {*range(37, 41)},
}


NOT_TOLD = -1  # the architecture of a machine that does not tell it; only U-Boot does not


def is_uefi(architecture: int) -> bool:
    """Whether machines of this type load EFI programs, and so may refuse unsigned ones."""
    return "UEFI" in ARCHITECTURES.get(architecture, "") or architecture == 9


def processor(architecture: int) -> str | None:
    """The family of processors of an architecture type; None where Daskel does not know it."""
    return next((name for name, of in _PROCESSORS.items() if architecture in of), None)


_SHORT = {
    NOT_TOLD: "uboot", 0: "bios", 6: "uefi-x86", 7: "uefi-x64", 9: "uefi-x64", 10: "uefi-arm",
    11: "uefi-arm64",
    15: "uefi-x86-http", 16: "uefi-x64-http", 18: "uefi-arm-http", 19: "uefi-arm64-http",
    20: "bios-http", 25: "uefi-riscv32", 26: "uefi-riscv32-http", 27: "uefi-riscv64",
    28: "uefi-riscv64-http",
}  # fmt: skip


def architecture_name(number: int) -> str:
    """The name that a site file has for an architecture type, made from the registry's."""
    known = ARCHITECTURES.get(number, f"type {number}")
    return _SHORT.get(number) or re.sub(r"[^a-z0-9]+", "-", known.lower()).strip("-")


def architecture_number(name: str) -> int | None:
    """The architecture type of a name in a site file; None for a name of none."""
    numbers = (NOT_TOLD, *ARCHITECTURES)
    return next((number for number in numbers if architecture_name(number) == name), None)


class Firmware(Enum):
    """The kinds of firmware that Daskel has something to boot with for, by the name that people
    type; but for U-Boot, that of its architecture."""

    BIOS = "bios"
    UEFI = "uefi-x64"
    UEFI_HTTP = "uefi-x64-http"
    UEFI_X86 = "uefi-x86"
    UEFI_X86_HTTP = "uefi-x86-http"
    ARM64 = "uefi-arm64"
    ARM64_HTTP = "uefi-arm64-http"
    ARM = "uefi-arm"
    ARM_HTTP = "uefi-arm-http"
    UBOOT = "uboot"

    @property
    def over_http(self) -> bool:
        """It loads its boot file by HTTP."""
        return self.value.endswith("-http")

    @classmethod
    def of_architecture(cls, number: int) -> Firmware | None:
        """The firmware of an architecture type (RFC 5970 3.3); None for those without a loader."""
        return _FIRMWARE.get(number)

    @property
    def architecture(self) -> int:
        """The architecture type that this firmware usually sends."""
        return next(number for number, firmware in _FIRMWARE.items() if firmware is self)


_FIRMWARE = {
    0: Firmware.BIOS,
    7: Firmware.UEFI,
    9: Firmware.UEFI,  # x86-64 in RFC 4578 as printed; firmware of that time sends it
    11: Firmware.ARM64,
    6: Firmware.UEFI_X86,
    10: Firmware.ARM,
    15: Firmware.UEFI_X86_HTTP,
    16: Firmware.UEFI_HTTP,
    18: Firmware.ARM_HTTP,
    19: Firmware.ARM64_HTTP,
    22: Firmware.UBOOT,
    21: Firmware.UBOOT,
    NOT_TOLD: Firmware.UBOOT,
}

PXE_CLASS, HTTP_CLASS, UBOOT_CLASS = b"PXEClient", b"HTTPClient", b"U-Boot"
SCRIPT = "boot.scr.uimg"  # the script image that U-Boot asks for first, by its own name for it
_UBOOT = {b"U-Boot.armv7": 21, b"U-Boot.arm": 21, b"U-Boot.armv8": 22}  # where it sends no 93
# Vendor option 6 (discovery control) = 8: no discovery, load the boot file of this very reply.
# Without it UEFI firmware asks port 4011. PXE specification 2.1, table 2-1.
_USE_THIS_FILE = bytes((6, 1, 8, 255))


@dataclass(frozen=True, slots=True)
class BootRequest:
    """What a message says about the wanted to boot from the network."""

    architecture: int
    vendor_class: bytes
    machine_id: bytes = b""
    user_class: bytes = b""  # option 77 as it came
    script: bool = False  # U-Boot, which fetches a script: it also presents itself as PXEClient

    @property
    def firmware(self) -> Firmware | None:
        """The firmware that Daskel has a boot loader for; None for others."""
        return Firmware.UBOOT if self.script else _FIRMWARE.get(self.architecture)

    @property
    def over_http(self) -> bool:
        """It asks for a URL."""
        return self.vendor_class.startswith(HTTP_CLASS)

    @property
    def user_classes(self) -> tuple[str, ...]:
        """The names in option 77: with a length before each (RFC 3004 4), or written plainly."""
        names, at, data = [], 0, self.user_class
        while at < len(data) and at + 1 + data[at] <= len(data) and data[at]:
            names.append(data[at + 1 : at + 1 + data[at]].decode("latin-1"))
            at += 1 + data[at]
        return tuple(names) if at == len(data) else (data.decode("latin-1"),)

    @property
    def described(self) -> str:
        """The kind of firmware, for people."""
        number = self.architecture
        if self.script and "U-Boot" not in ARCHITECTURES.get(number, ""):
            of = f", {ARCHITECTURES[number]}" if number in ARCHITECTURES else ""
            return f"U-Boot{of}"
        return ARCHITECTURES.get(number, f"architecture type {number}, not in the registry")


def boot_request(packet: Packet) -> BootRequest | None:
    """None when the sender does not want to boot from the network."""
    vendor_class = packet.options.get(Code.VENDOR_CLASS, b"")
    if not vendor_class.startswith((PXE_CLASS, HTTP_CLASS, UBOOT_CLASS)):
        return None
    script = vendor_class.startswith(UBOOT_CLASS) or packet.file.endswith(SCRIPT.encode())
    architecture = packet.options.get(Code.ARCHITECTURE, b"")
    machine_id = packet.options.get(Code.MACHINE_ID, b"")
    user_class = packet.options.get(Code.USER_CLASS, b"")
    if len(architecture) >= 2:
        number = int.from_bytes(architecture[:2], "big")
        return BootRequest(number, vendor_class, machine_id, user_class, script)
    if vendor_class.startswith(UBOOT_CLASS):
        number = _UBOOT.get(vendor_class, NOT_TOLD)
        return BootRequest(number, vendor_class, machine_id, user_class, script)
    # `PXEClient:Arch:00000:UNDI:002001`; firmware without option 93 says it here
    words = vendor_class.split(b":")
    spelled = words[2] if len(words) > 2 and words[1] == b"Arch" else b"0"
    number = int(spelled) if spelled.isdigit() else 0
    return BootRequest(number, vendor_class, machine_id, user_class, script)


def is_system(packet: Packet) -> bool:
    """Whether it is an operating system that sends this DISCOVER. GRUB's says nothing but its type,
    and boards that boot by DHCP alone ask for the boot file."""
    asked = packet.options.get(Code.PARAMETERS, b"")
    names_files = Code.BOOT_FILE in asked or Code.BOOT_SERVER in asked
    return boot_request(packet) is None and bool(asked) and not names_files


def boot_options(request: BootRequest) -> dict[int, bytes]:
    """The options that make this firmware take the boot file of the reply that they stand in."""
    if request.vendor_class.startswith(HTTP_CLASS):
        return {Code.VENDOR_CLASS: HTTP_CLASS}
    if request.script:
        return {}
    options: dict[int, bytes] = {Code.VENDOR_CLASS: PXE_CLASS, Code.VENDOR_SPECIFIC: _USE_THIS_FILE}
    if request.machine_id:
        options[Code.MACHINE_ID] = request.machine_id
    return options
