"""Packing: a sealed version becomes one compressed, read-only image, and an initrd that mounts it.

The same version is the same bytes. The initrd is unpacked after the root's own: it has a folder
`/daskel` with the root's perl, the modules that are needed, and the script `client/daskel.pl`.
"""

from __future__ import annotations

import gzip
import hashlib
import lzma
import os
import re
import shutil
import subprocess
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from importlib.resources import files
from pathlib import Path, PurePosixPath

from daskel.core.roots.cpio import archive
from daskel.core.roots.linking import LinkError, linked
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.initrds import initrd_names
from daskel.system.roots.inside import FolderTree, inside
from daskel.system.roots.kept import sync_folder
from daskel.system.roots.own_kernels import own_kernels
from daskel.system.roots.roots import RootFolder, Version
from daskel.system.roots.tree_copy import Progress

_LEVEL = 9  # of zstd
_OUT = ("boot", "proc/*", "sys/*", "dev/*", "run/*", "tmp/*")
_PERCENT = re.compile(rb"(\d+)%")
_PERL = "/usr/bin/perl"
# Folders of the initrds that know what to do with the files below: of initramfs-tools, of dracut
_MAKERS = ("scripts/functions", "usr/lib/dracut/", "lib/dracut/")
NEEDED = ("squashfs", "overlay", "nbd", "loop")
# ext4 for slates that are kept; then for roots over IPv6; the last two for private ones
_USEFUL = (
    "ext4", "af_alg", "algif_hash", "sha256_generic", "ipv6", "nfsv3", "wireguard", "efivarfs",
)  # fmt: skip
# For a small medium with a client's key, which nothing else is loaded for
_MEDIA = (
    "virtio_blk", "xhci_pci", "ehci_pci", "uhci_hcd", "ohci_pci", "usb_storage", "uas", "sd_mod",
    "sdhci_pci", "sdhci_acpi", "mmc_block",
)  # fmt: skip
_TPM = ("tpm_tis", "tpm_crb")  # built in on most
# Numbers of system calls that perl has no function for (Linux, by processor)
_CALLS = {
    "x86": {
        "mlockall": 151,
        "accept": 43,
        "finit_module": 313,
        "clock_gettime": 228,
        "mount": 165,
        "getrandom": 318,
    },
    "arm64": {
        "mlockall": 230,
        "accept": 202,
        "finit_module": 273,
        "clock_gettime": 113,
        "mount": 40,
        "getrandom": 278,
    },
}
_FOLDERS = ("daskel", "daskel/bin", "daskel/lib", "daskel/modules")  # of our own: a link of the
# root's initrd (bin) would be replaced by a folder of that name


def pack(root: RootFolder, number: int, progress: Progress) -> Version:
    """Make the image of a sealed version, and its initrd. The root must be locked. Raises
    MissingRequirementError; what is interrupted leaves no image behind. `progress`: percent."""
    state = root.state()
    version, tree = state.versions[number], root.version(number)
    part = client_part(tree)
    image, initrd = root.image(number), root.client_part(number)
    unfinished = image.with_name(f"{image.name}.part")
    try:
        _squash(tree, unfinished, int(version.sealed), progress)
        digest = _digest(unfinished)
        _write(initrd, part)
        unfinished.replace(image)
        sync_folder(image.parent)
    finally:
        unfinished.unlink(missing_ok=True)
    packed = replace(version, image=image.stat().st_size, digest=digest)
    root.keep(replace(state, versions={**state.versions, number: packed}))
    return packed


def _squash(tree: Path, target: Path, made: int, progress: Progress) -> None:
    if not shutil.which("mksquashfs"):
        problem = "the program mksquashfs is missing"
        raise MissingRequirementError(problem, "apt install squashfs-tools")
    target.unlink(missing_ok=True)
    command = ["mksquashfs", str(tree), str(target), "-noappend", "-comp", "zstd"]
    command += ["-Xcompression-level", str(_LEVEL), "-mkfs-time", str(made), "-progress"]
    command += ["-wildcards", "-e", *_OUT]
    done, last = 0, b""
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT) as process:
        assert process.stdout
        while piece := os.read(process.stdout.fileno(), 1 << 16):
            last = (last + piece)[-4096:]
            if found := _PERCENT.findall(piece):
                percent = min(100, int(found[-1]))
                progress(max(0, percent - done))
                done = max(done, percent)
    if process.returncode:
        lines = [line for line in last.decode(errors="replace").splitlines() if "%" not in line]
        reason = " ".join(" ".join(lines[-3:]).split())
        problem = f"mksquashfs ended with exit code {process.returncode}: {reason}"
        raise MissingRequirementError(problem, "look at the space on the disk of the roots")
    with target.open("rb") as image:
        os.fsync(image.fileno())
    target.chmod(0o600)


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _write(target: Path, data: bytes) -> None:
    part = target.with_name(f"{target.name}.part")
    with part.open("wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())
    part.replace(target)


# --- the initrd ---


@dataclass(frozen=True, slots=True)
class Module:
    """A kernel's module, and its content as it is loaded."""

    name: str
    data: bytes


def client_part(tree: Path) -> bytes:
    """The initrd that mounts an image of `tree`, compressed as Linux takes it. Raises
    MissingRequirementError where the tree does not have what it needs, with the way out."""
    plain = archive(_FOLDERS, client_files(tree))
    return lzma.compress(plain, check=lzma.CHECK_CRC32, preset=6)


def client_files(tree: Path) -> dict[str, tuple[int, bytes]]:
    """What is in that initrd: mode and content by path. Raises MissingRequirementError."""
    chosen = next(iter(own_kernels(tree)), None)
    if chosen is None or chosen.release is None:
        remedy = "install one (Debian: linux-image-amd64): daskel root edit"
        raise MissingRequirementError(f"{tree} has no kernel in its /boot", remedy)
    if chosen.initrd is None:
        remedy = f"make it: update-initramfs -c -k {chosen.release} (daskel root edit)"
        raise MissingRequirementError(f"the kernel {chosen.release} has no initrd", remedy)
    names = initrd_names(chosen.initrd.read_bytes())
    if names is not None and not any(name.startswith(_MAKERS) for name in names):
        problem = f"{chosen.initrd.name} was made neither by initramfs-tools nor by dracut"
        remedy = 'install one of them in the root (daskel root edit), or delivery = "files"'
        raise MissingRequirementError(problem, remedy)
    calls = _CALLS.get(chosen.processor or "")
    if calls is None:
        problem = f"roots for {chosen.processor} cannot be delivered as an image"
        raise MissingRequirementError(problem, 'choose delivery = "files"')
    interpreter, libraries = _perl(tree)
    modules = list(_modules(tree, chosen.release, (*NEEDED, *_USEFUL)))
    loaded = [module.name for module in modules]
    known = set(loaded)
    lists = {"order": loaded}
    for name, wanted in (("media", _MEDIA), ("tpm", _TPM)):
        more = [m for m in _modules(tree, chosen.release, wanted) if m.name not in known]
        lists[name] = [module.name for module in more]
        modules += [m for m in more if m not in modules]
    client = files("daskel.system.roots").joinpath("client")
    script = client.joinpath("daskel.pl").read_bytes()
    loader = f"/daskel/lib/{PurePosixPath(interpreter).name}" if interpreter else ""
    words = [loader, "--library-path", "/daskel/lib"] if loader else []
    words += ["/daskel/bin/perl", "/daskel/daskel.pl"]
    run = f'#!/bin/sh\nexport LC_ALL=C\nexec {" ".join(words)} "$@"\n'
    config = "".join(f"{k}={v}\n" for k, v in {**calls, "loader": loader}.items())
    hooks = "usr/lib/dracut/hooks"  # only dracut's initrds have these folders
    return {
        "daskel/daskel.pl": (0o755, script),
        "daskel/run": (0o755, run.encode()),
        "daskel/config": (0o644, config.encode()),
        "daskel/bin/perl": (0o755, libraries.pop(_PERL)),
        **{f"daskel/lib/{PurePosixPath(p).name}": (0o755, d) for p, d in libraries.items()},
        **{f"daskel/modules/{m.name}.ko": (0o644, m.data) for m in modules},
        **{
            f"daskel/modules/{name}": (0o644, "".join(f"{one}\n" for one in names).encode())
            for name, names in lists.items()
        },
        "scripts/daskel": (0o755, client.joinpath("initramfs-tools.sh").read_bytes()),
        f"{hooks}/cmdline/99-daskel.sh": (
            0o755,
            client.joinpath("dracut-cmdline.sh").read_bytes(),
        ),
        f"{hooks}/mount/10-daskel.sh": (0o755, client.joinpath("dracut-mount.sh").read_bytes()),
    }


def _perl(tree: Path) -> tuple[str, dict[str, bytes]]:
    """Its dynamic linker, and perl with all that it is linked with, by path."""
    try:
        found = linked(FolderTree(tree), _PERL)
    except LinkError as error:
        remedy = "install it (Debian: perl-base): daskel root edit"
        raise MissingRequirementError(f"what mounts an image needs perl: {error}", remedy) from None
    return found.program.interpreter if found.program else "", dict(found.files)


def _modules(tree: Path, release: str, wanted: Sequence[str]) -> Iterator[Module]:
    """Those that are wanted and not built in, each behind what it depends on."""
    base = inside(tree, f"lib/modules/{release}")
    if base is None:
        remedy = "install them with the kernel: daskel root edit"
        raise MissingRequirementError(f"the root has no modules of {release}", remedy)
    there = {_plain(path.name): path for path in sorted(base.rglob("*.ko*"))}
    listed = base / "modules.builtin"
    words = listed.read_text().split() if listed.is_file() else []
    built_in = {_plain(Path(word).name) for word in words}
    done = set(built_in)

    def with_needed(name: str) -> Iterator[Module]:
        if name in done or name not in there:
            return
        done.add(name)
        data = _unpacked(there[name])
        depends = re.search(rb"\0depends=([^\0]*)\0", data)
        for other in depends[1].decode("ascii", "replace").split(",") if depends else ():
            yield from with_needed(_plain(other))
        yield Module(name, data)

    missing = [name for name in NEEDED if name not in built_in and name not in there]
    if missing:
        problem = f"the kernel {release} has no module {', '.join(missing)}"
        remedy = "install another kernel in the root (Debian: linux-image-amd64)"
        raise MissingRequirementError(problem, remedy)
    for name in wanted:
        yield from with_needed(name)


def _plain(name: str) -> str:
    """How modules are called: `-` and `_` are the same, and an ending says how it is packed."""
    return re.sub(r"\.ko(\.\w+)?$", "", name).replace("-", "_")


def _unpacked(path: Path) -> bytes:
    data = path.read_bytes()
    if path.suffix == ".xz":
        return lzma.decompress(data)
    if path.suffix == ".gz":
        return gzip.decompress(data)
    if path.suffix != ".zst":
        return data
    if not shutil.which("zstd"):
        raise MissingRequirementError(f"{path} is packed with zstd", "apt install zstd")
    return subprocess.run(["zstd", "-dc"], input=data, capture_output=True, check=True).stdout
