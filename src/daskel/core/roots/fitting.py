"""What must change in a copy of a machine before it boots without a disk: which files, and how."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

FSTAB, INTERFACES = "etc/fstab", "etc/network/interfaces"
RESUME = "etc/initramfs-tools/conf.d/resume"
NETWORKD = "etc/systemd/network/05-daskel.network"
MANAGER = "etc/NetworkManager/conf.d/daskel.conf"
INITRAMFS, DRACUT = "etc/initramfs-tools/conf.d/daskel", "etc/dracut.conf.d/daskel.conf"
INITRAMFS_TEXT = "# The root comes from the network.\nBOOT=nfs\nMODULES=most\nRESUME=none\n"
DRACUT_TEXT = (
    '# The root comes from the network.\nhostonly="no"\nadd_dracutmodules+=" network nfs "\n'
)
DISK = re.compile(r"(?:/dev/(?!nfs|ram|zram|fuse|shm)|UUID=|LABEL=|PARTUUID=|PARTLABEL=)")
# Files whose texts are looked at: a path, or a folder and how names in it end
LOOKED_AT = (
    (FSTAB, ""), (INTERFACES, ""), (RESUME, ""), ("etc/network/interfaces.d", ""),
    ("etc/systemd/network", ".network"), ("etc/netplan", ".yaml"),
    ("etc/NetworkManager/system-connections", ""),
)  # fmt: skip
_STANZA = re.compile(r"(auto|allow-\S+|iface|mapping|source|source-directory|no-\S+)\b")
_KEPT = (  # of the address that the initrd got, by systemd-networkd, before any file of the machine
    "# The initrd has set up the network; losing it would lose the root.\n"
    "[Match]\nType=ether\nKernelCommandLine=BOOTIF\n\n"
    "[Network]\nDHCP=yes\nKeepConfiguration=yes\n\n[DHCPv4]\nClientIdentifier=mac\n"
)
_UNMANAGED = (
    "# The initrd has set up the network; losing it would lose the root.\n"
    "[device-daskel]\nmatch-device=type:ethernet\nmanaged=0\n"
)


@dataclass(frozen=True, slots=True)
class Fit:
    """A file with its new text, and what that changes, for people."""

    path: str
    text: str
    said: tuple[str, ...]


def of_disk(line: str) -> list[str] | None:
    """The words of a line of fstab that waits for a disk; None for any other."""
    words = line.split("#")[0].split()
    if len(words) < 3 or not DISK.match(words[0]):
        return None
    options = words[3].split(",") if len(words) > 3 else []
    return None if "noauto" in options or "nofail" in options else words


def static_address(path: str, text: str) -> str | None:
    """The first line that gives the machine an address of its own; None without one."""
    for line in text.splitlines():
        words = line.split("#")[0].split()
        if path.startswith(INTERFACES):
            if words[:1] == ["iface"] and words[3:4] == ["static"]:
                return line.strip()
        elif path.startswith("etc/NetworkManager"):
            if re.fullmatch(r"method\s*=\s*manual", line.strip()):
                return line.strip()
        elif path.startswith("etc/systemd/network"):
            if re.match(r"Address\s*=", line.strip()):
                return line.strip()
        elif path.startswith("etc/netplan") and re.match(r"-?\s*addresses:", line.strip()):
            return line.strip()
    return None


def fits(texts: Mapping[str, str], *, networkd: bool, manager: bool) -> Iterator[Fit]:
    """Every file that changes. `networkd`, `manager`: systemd-networkd, or NetworkManager, sets up
    the network."""
    if fit := _fstab(texts.get(FSTAB, "")):
        yield fit
    for path, text in texts.items():
        if path.startswith(INTERFACES) and (fit := _interfaces(path, text)):
            yield fit
    resume = texts.get(RESUME, "")
    if resume and "RESUME=none" not in resume:
        said = f"{RESUME}: it waits for no swap to resume from"
        yield Fit(RESUME, "RESUME=none\n", (said,))
    if networkd and texts.get(NETWORKD) != _KEPT:
        said = "systemd-networkd keeps the address that the initrd got, whatever else is written"
        yield Fit(NETWORKD, _KEPT, (said,))
    if manager:
        yield Fit(MANAGER, _UNMANAGED, ("NetworkManager leaves network cards with a cable alone",))


def _fstab(text: str) -> Fit | None:
    lines, said = [], []
    for line in text.splitlines():
        words = of_disk(line)
        lines.append(f"# no disk: {line}" if words else line)
        if words:
            what = "swap on" if words[2] == "swap" else f"{words[1]} on"
            said.append(f"{FSTAB}: {what} {words[0]} is left out")
    return Fit(FSTAB, "\n".join([*lines, ""]), tuple(said)) if said else None


def _interfaces(path: str, text: str) -> Fit | None:
    """Interfaces other than the loopback are left as the initrd set them up."""
    lines, said, inside = [], [], False
    for line in text.splitlines():
        words = line.split()
        if words and _STANZA.fullmatch(words[0]):
            inside = False
        if words[:1] == ["iface"] and words[1:2] != ["lo"] and words[3:4] in (["static"], ["dhcp"]):
            inside = True
            lines.append(f"iface {words[1]} {words[2]} manual")
            said.append(f"{path}: {words[1]} stays as the initrd has set it up")
        elif inside and words:
            lines.append(f"# {line}")
        else:
            lines.append(line)
    return Fit(path, "\n".join([*lines, ""]), tuple(said)) if said else None
