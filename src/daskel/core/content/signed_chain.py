"""What firmware with Secure Boot starts: the distribution's shim, which the makers of firmware
trust, then its signed GRUB, and the configuration that this asks for.

DHCP does not show whether Secure Boot is on, so one chain is for all: where it is off, the signed
GRUB goes on to Daskel's own boot loader, which knows HTTP.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

from daskel.core.content.grub import FOLDER, image_path


@dataclass(frozen=True, slots=True)
class Chain:
    """Of one kind of machine. shim asks for the other two in the folder that it came from."""

    loader: str  # Daskel's own boot loader, to which it goes on where Secure Boot is off
    machine: str  # as its files' names end
    cpu: str  # as GRUB calls it
    debian: str  # as packages' names end

    @property
    def folder(self) -> str:
        """The folder of its files, below `files` and on the wire."""
        return f"{FOLDER}/signed-{self.machine}"

    @property
    def first(self) -> str:
        """What the firmware fetches: shim."""
        return f"{self.folder}/start.efi"

    @property
    def second(self) -> str:
        """What shim fetches: the signed GRUB."""
        return f"{self.folder}/grub{self.machine}.efi"

    @property
    def goes_on_to(self) -> str:
        """The path of Daskel's own boot loader."""
        return image_path(self.loader)

    @property
    def sources(self) -> tuple[str, str]:
        """The folders of shim and of the signed GRUB, where Debian's packages have them."""
        return "/usr/lib/shim", f"/usr/lib/grub/{self.cpu}-efi-signed"

    @property
    def files(self) -> Mapping[str, str]:
        """Where Debian's packages have each of its files, by its path: shim, the signed GRUB, and
        what enrols keys."""
        shim, grub = self.sources
        return {
            self.first: f"{shim}/shim{self.machine}.efi.signed",
            self.second: f"{grub}/grubnet{self.machine}.efi.signed",
            f"{self.folder}/mm{self.machine}.efi": f"{shim}/mm{self.machine}.efi.signed",
        }

    @property
    def packages(self) -> list[str]:
        """Debian's, that have these folders."""
        foreign = "" if self.debian == "amd64" else f":{self.debian}"
        return [f"shim-signed{foreign}", f"grub-efi-{self.debian}-signed{foreign}"]


_ALL = (Chain("uefi-x64", "x64", "x86_64", "amd64"), Chain("uefi-arm64", "aa64", "arm64", "arm64"))
CHAINS = {chain.loader: chain for chain in _ALL}  # by the boot loader that they go on to
CONFIGURATION = "grub/grub.cfg"  # wherever the signed GRUB was loaded from
FILES = frozenset(path for chain in CHAINS.values() for path in chain.files)


def chain_of(path: str) -> Chain | None:
    """The chain that a boot file begins."""
    return next((chain for chain in CHAINS.values() if path == chain.first), None)


def configuration(built: Collection[str]) -> str:
    """What the signed GRUB is told, whoever asks: with Secure Boot on it goes on by itself, and
    cannot do otherwise; else to the boot loader of its machine, of those that are here (`built`).
    """
    lines = ["# Secure Boot off: on to the boot loader that knows HTTP"]
    for chain in (chain for loader, chain in CHAINS.items() if loader in built):
        lines += [
            f'if [ "$lockdown" != "y" -a "$grub_cpu" = "{chain.cpu}" ]; then',
            f"  chainloader /{chain.goes_on_to}",
            "  boot",
            "fi",
        ]
    return "\n".join([*lines, f"configfile /{FOLDER}/$net_default_mac.signed", ""])
