"""Whether a root can be what a machine without a disk boots: what was read from it, judged."""

from __future__ import annotations

import io
import re
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field

from elftools.common.exceptions import ELFError
from elftools.elf.elffile import ELFFile
from elftools.elf.enums import ENUM_E_MACHINE
from elftools.elf.segments import InterpSegment

from daskel.core.roots.accounts import Account
from daskel.core.roots.fitting import RESUME, of_disk, static_address
from daskel.core.roots.magic import CPIO
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.positions import Origin

_MAKES = {3: "x86", 62: "x86", 40: "arm", 183: "arm64", 243: "riscv", 258: "loongarch"}
_NFS = re.compile(r"(^|/)nfs(v3)?\.ko")
_CARD = re.compile(
    r"/drivers/net/(ethernet/|usb/|hyperv/|xen-|virtio_net|vmxnet3|fjes|thunderbolt)|/virtio_net\.ko|"
    r"(^|/)(virtio_net|e100|e1000e?|igb|igc|ixgbe|r8169|8139(cp|too)|tg3|bnx2x?|sky2|forcedeth|"
    r"pcnet32|ne2k-pci|vmxnet3|via-rhine|atl1[ce]|alx|jme|skge|stmmac|genet|dwmac-\w+)\.ko"
)


@dataclass(frozen=True, slots=True)
class Program:
    """An ELF file: its machine (e_machine), and the dynamic linker that it names."""

    path: str
    machine: int
    interpreter: str = ""


@dataclass(frozen=True, slots=True)
class Handed:
    """What one loadout hands out with the root. `names`: of the initrd, None when unread."""

    loadout: str
    origin: Origin
    release: str | None  # of the kernel
    processor: str | None
    names: Collection[str] | None
    built_in: Collection[str] | None = None  # modules of the kernel itself; None when not known
    missing: bool = False  # it boots the root's own kernel, but the root has no kernel
    by_files: bool = True  # some client gets the root by NFS


@dataclass(frozen=True, slots=True)
class Facts:
    """What was read from a root's tree."""

    tree: str
    init: Program | None
    linker_there: bool = True
    modules: Collection[str] = ()  # kernel releases below lib/modules
    texts: Mapping[str, str] = field(default_factory=dict)  # of files that are judged, by path
    units: Collection[str] = ()  # services that are switched on
    unique: int = 0  # files that belong to one machine
    handed: Collection[Handed] = ()
    accounts: Collection[Account] | None = None  # that can log in; None: it cannot be told
    shows: bool = False  # a program on the screen, by an account of its own
    no_image: tuple[str, str] | None = None  # why it cannot be an image, and what to do


def inspect(facts: Facts, root: Origin) -> list[Finding]:
    """Everything that would keep a client from booting it, or would trouble it."""
    found = [*_init(facts, root), *_fstab(facts), *_network(facts, root), *_accounts(facts, root)]
    if facts.no_image:
        problem = f"it is to come as an image, and cannot: {facts.no_image[0]}"
        found.append(Finding(Severity.ERROR, root, problem, facts.no_image[1]))
    for handed in facts.handed:
        found += [*_kernel(facts, handed), *initrd_findings(handed)]
    if facts.unique:
        count = "1 file belongs" if facts.unique == 1 else f"{facts.unique} files belong"
        problem = f"{count} to one machine (keys, logs, leases)"
        remedy = "nothing to do: sealing leaves them out (forget in the site file)"
        found.append(Finding(Severity.NOTE, root, problem, remedy))
    return found


def _init(facts: Facts, root: Origin) -> Iterator[Finding]:
    if facts.init is None:
        problem = "there is no program that starts first: no /sbin/init"
        remedy = "install one (systemd-sysv, busybox), or name it: args = ['init=/...']"
        yield Finding(Severity.ERROR, root, problem, remedy)
        return
    if not facts.linker_there:
        problem = f"{facts.init.path} needs {facts.init.interpreter}, which is not there"
        remedy = "install the C library for its processor"
        yield Finding(Severity.ERROR, root, problem, remedy)


def _accounts(facts: Facts, root: Origin) -> Iterator[Finding]:
    if facts.accounts is None or facts.accounts or facts.shows:
        return
    problem = "nobody can log in: every account is locked, and no key is let in"
    remedy = "give one a password: daskel root edit NAME -- passwd NAME; or build it with --user"
    yield Finding(Severity.WARNING, root, problem, remedy)


def _kernel(facts: Facts, handed: Handed) -> Iterator[Finding]:
    if handed.missing:
        problem = f"loadout {handed.loadout} boots the kernel of its root, which has none in /boot"
        remedy = "install one (Debian: linux-image-amd64), or name another: kernel = ..."
        yield Finding(Severity.ERROR, handed.origin, problem, remedy)
    made_for = _MAKES.get(facts.init.machine) if facts.init else None
    if made_for and handed.processor and made_for != handed.processor:
        problem = f"the kernel of loadout {handed.loadout} is for {handed.processor}, "
        remedy = "hand out a kernel for the root's processor"
        yield Finding(Severity.ERROR, handed.origin, f"{problem}the root for {made_for}", remedy)
    if handed.release and handed.release not in facts.modules:
        there = ", ".join(sorted(facts.modules)) or "none"
        problem = (
            f"the kernel of loadout {handed.loadout} is {handed.release}; "
            f"the root has modules of: {there}"
        )
        remedy = "leave out kernel and initrd: the root's own are used then"
        if not facts.modules:
            remedy = f"install linux-image-{handed.release} in the root: daskel root edit"
        yield Finding(Severity.ERROR, handed.origin, problem, remedy)


def initrd_findings(handed: Handed) -> Iterator[Finding]:
    """What an initrd is without that is needed to mount a root by NFS: an error where the kernel
    is known not to have it, either."""
    if handed.names is None:
        return
    sure = Severity.WARNING if handed.built_in is None else Severity.ERROR
    modules = [name for name in handed.names if re.search(r"\.ko(\.\w+)?$", name)]
    releases = {m[1] for name in modules if (m := re.search(r"lib/modules/([^/]+)/", name))}
    if handed.release and releases and handed.release not in releases:
        problem = f"the initrd has modules of {', '.join(sorted(releases))}, the kernel is "
        remedy = "make the initrd for this kernel: update-initramfs -c -k " + handed.release
        yield Finding(Severity.ERROR, handed.origin, problem + handed.release, remedy)
    built_in = handed.built_in or ()
    if handed.by_files and not any(_NFS.search(name) for name in (*modules, *built_in)):
        problem = f"the initrd of loadout {handed.loadout} has no NFS module"
        remedy = "add nfs and nfsv3 to it (Debian: BOOT=nfs in initramfs.conf)" + (
            "" if handed.built_in is not None else ", unless it is built in"
        )
        yield Finding(sure, handed.origin, problem, remedy)
    if modules and not any(_drives_a_card(name) for name in (*modules, *built_in)):
        problem = f"the initrd of loadout {handed.loadout} has no driver of a network card"
        remedy = "make it with all network drivers (Debian: MODULES=most)"
        known = sure if all("/kernel/" in name for name in modules) else Severity.WARNING
        yield Finding(known, handed.origin, problem, remedy)


def _drives_a_card(module: str) -> bool:
    """By its place in the kernel's own tree; by its name where an initrd has a tree of its own."""
    return bool(_CARD.search(module))


def _fstab(facts: Facts) -> Iterator[Finding]:
    for number, line in enumerate(facts.texts.get("etc/fstab", "").splitlines(), 1):
        words = of_disk(line)
        if words is None:
            continue
        place = Origin(f"{facts.tree}/etc/fstab", number, 1, words[0])
        what = "swaps to" if words[2] == "swap" else f"waits for {words[1]} on"
        problem = f"the system {what} a disk: {words[0]}"
        remedy = "remove the line, or add nofail to its options"
        yield Finding(Severity.ERROR, place, problem, remedy)


def _network(facts: Facts, root: Origin) -> Iterator[Finding]:
    """Services that would set up the interface anew, and lose the root over it."""
    text = facts.texts.get("etc/network/interfaces", "")
    for number, line in enumerate(text.splitlines(), 1):
        words = line.split()
        if words[:1] == ["iface"] and words[1:2] != ["lo"] and words[3:4] == ["dhcp"]:
            place = Origin(f"{facts.tree}/etc/network/interfaces", number, 1, line.strip())
            problem = f"ifupdown takes {words[1]} down and up, and the root with it"
            remedy = f"write: iface {words[1]} inet manual"
            yield Finding(Severity.WARNING, place, problem, remedy)
    for path, text in facts.texts.items():
        if static := static_address(path, text):
            place = Origin(f"{facts.tree}/{path}", 1, 1, static)
            problem = f"the system gives its network card an address of its own: {static}"
            remedy = "leave it to the initrd (daskel root import --fit does all of this)"
            yield Finding(Severity.WARNING, place, problem, remedy)
    if facts.texts.get(RESUME, "RESUME=none").strip() != "RESUME=none":
        place = Origin(f"{facts.tree}/{RESUME}", 1, 1, facts.texts[RESUME].strip())
        problem = "its initrd waits for a swap to resume from, which is on a disk"
        remedy = "write RESUME=none there, and make the initrd anew: update-initramfs -u -k all"
        yield Finding(Severity.WARNING, place, problem, remedy)
    if any("NetworkManager.service" in unit for unit in facts.units):
        problem = "NetworkManager is switched on, and may take the interface down"
        remedy = "daskel root edit NAME -- systemctl disable NetworkManager"
        yield Finding(Severity.WARNING, root, problem, remedy)


def processor_of(machine: int) -> str | None:
    """The family of processors of an ELF file's machine type; None where it is not known."""
    return _MAKES.get(machine)


def elf_program(path: str, data: bytes) -> Program | None:
    """What an ELF file is for; None for anything else, and for a damaged one."""
    try:
        elf = ELFFile(io.BytesIO(data))
        segments = (segment for segment in elf.iter_segments())
        named = (s.get_interp_name() for s in segments if isinstance(s, InterpSegment))
        linker = next(named, "")
        machine = ENUM_E_MACHINE.get(elf["e_machine"], elf["e_machine"])
    except (ELFError, ValueError, KeyError, UnicodeError, OverflowError, MemoryError):
        return None
    return Program(path, machine, linker) if isinstance(machine, int) else None


def cpio_names(data: bytes) -> tuple[list[str], int]:
    """Names in an archive in the format newc, and where it ends (Linux, buffer-format.rst).
    An initrd can be several archives one after the other. Raises ValueError."""
    names: list[str] = []
    at = 0
    while data.startswith(CPIO, at):
        size, length = int(data[at + 54 : at + 62], 16), int(data[at + 94 : at + 102], 16)
        name = data[at + 110 : at + 110 + length - 1].decode("utf-8", "replace")
        at = (at + 110 + length + 3) // 4 * 4
        at = (at + size + 3) // 4 * 4
        if name == "TRAILER!!!":
            while at < len(data) and data[at] == 0:
                at += 1
            continue
        names.append(name)
    return names, at
