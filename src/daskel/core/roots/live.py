"""Live systems and installers of the Debian family, told by what is in their images, and what their
initrds must be told to fetch the rest of themselves from here.

live-boot: its own scripts `9990-mount-http.sh` and `9990-networking.sh`; casper: its script
`casper`; the installer: the packages that its initrd names.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from enum import Enum

_LIVE = re.compile(r"live/(filesystem[\w.-]*|[\w.-]+)\.squashfs")
_CASPER = re.compile(r"casper/[\w.-]+\.squashfs")
_DISC = "cdrom-detect"  # the package of the installer that looks for its disc


class LiveKind(Enum):
    """What an image is."""

    LIVE_BOOT = "a live system (live-boot)"
    CASPER = "a live system (casper)"
    INSTALLER = "the Debian installer"


@dataclass(frozen=True, slots=True)
class Live:
    """A system that can be booted as it came. Paths are inside of the image; `arguments` are
    templates of kernel arguments. `wants_image`: the image itself must be fetched, too."""

    kind: LiveKind
    kernel: str
    initrd: str
    arguments: tuple[str, ...]
    wants_image: bool = False


def recognise(
    folder: str, names: Collection[str], kernels: Sequence[str], initrds: Sequence[str],
    packages: Collection[str] = (),
) -> Live | None:  # fmt: skip
    """What the files of an image are that lie in `folder` below `files`; None for anything else.
    `kernels`, `initrds`: those of `names` that are some; `packages`: names in the first initrd."""
    if not kernels or not initrds:
        return None
    url = f"http://{{{{ segment.host }}}}/{folder}"
    card = "BOOTIF=01-{{ client.mac_dashed }}"
    if system := _first(names, _LIVE):
        kernel, initrd = _pair("live/", kernels, initrds)
        told = ("boot=live", "components", f"fetch={url}/{system}", card)
        return Live(LiveKind.LIVE_BOOT, kernel, initrd, told)
    if _first(names, _CASPER):
        kernel, initrd = _pair("casper/", kernels, initrds)
        whole = ("boot=casper", f"url={url}/{folder}.iso", "ip=dhcp", card)
        return Live(LiveKind.CASPER, kernel, initrd, whole, wants_image=True)
    if any("/debian-installer" in f"/{name}" for name in packages):
        kernel, initrd = kernels[0], initrds[0]
        return Live(LiveKind.INSTALLER, kernel, initrd, ("interface=auto", card))
    return None


def looks_for_its_disc(packages: Collection[str]) -> bool:
    """An installer's initrd that goes no further without its disc."""
    return any(_DISC in name for name in packages)


def _first(names: Collection[str], pattern: re.Pattern[str]) -> str | None:
    """The system itself: `filesystem.squashfs` where there are several."""
    found = (name for name in names if pattern.fullmatch(name))
    return min(found, key=lambda name: ("/filesystem" not in name, name), default=None)


def _pair(folder: str, kernels: Sequence[str], initrds: Sequence[str]) -> tuple[str, str]:
    """Kernel and initrd of one release, those in the system's own folder first."""
    ordered = sorted(kernels, key=lambda name: not name.startswith(folder))
    for kernel in ordered:
        release = kernel.rpartition("/")[2].partition("-")[2]
        mine = (i for i in initrds if i.startswith(folder))
        found = next((i for i in mine if not release or i.endswith(release)), None)
        if found:
            return kernel, found
    return ordered[0], initrds[0]
