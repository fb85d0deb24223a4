"""What machines get whose firmware starts the kernel itself, and what the site's own key signs:
the paths, and what stands for what.

`loader/02-61-08-00-00-01.x64.efi` is the whole image of one machine. Where it can choose, Daskel's
boot loader shows the menu, and starts the image of an entry: `entry-NAME.efi` in a folder of the
machine, `loader/02-61-08-00-00-01.x64`.
Where the key was enrolled for shim, firmware starts shim, and this asks for its second stage in the
folder that it came from: the folder of a machine for its image, and one for all with Daskel's boot
loader.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import Enum

from daskel.core.content.grub import FOLDER, wants_loader
from daskel.core.content.signed_chain import CHAINS, Chain
from daskel.core.site.layers import Effective
from daskel.core.values import parse_mac

STUB_PACKAGE = "systemd-boot-efi"
_STUBS = "/usr/lib/systemd/boot/efi"
_FOR_ALL, _ENTRY = "mok", "entry-"
_NAME = re.compile(r"[\w.-]+")
_GRUBS_CPU = "$grub_cpu"  # GRUB puts its processor there
OWN_KEY = ("mok", "db")  # where the site's own key was enrolled
_PATH = re.compile(
    rf"{FOLDER}/(?:{_FOR_ALL}-|([0-9a-f]{{2}}(?:-[0-9a-f]{{2}}){{5}})\.)(\w+)(\.efi|/([\w.-]+)\.efi)",
    re.IGNORECASE,
)


class Role(Enum):
    """What a file is in its chain."""

    SHIM = "shim"
    SECOND = "second stage"
    KEYS = "what enrols keys"
    IMAGE = "image"


@dataclass(frozen=True, slots=True)
class AskedFor:
    """A file of these, of the machine with this MAC address, or of all; `entry`: of its menu."""

    chain: Chain
    role: Role
    mac: str | None
    entry: str | None = None


def asked_for(path: str) -> AskedFor | None:
    """What a path is; None for any other."""
    match = _PATH.fullmatch(path)
    kind = match[2].lower() if match else ""
    chain = next((c for c in CHAINS.values() if kind in (c.machine, c.cpu)), None)
    if not match or not chain:
        return None
    mac = parse_mac(match[1]) if match[1] else None
    if match[4] is None:
        return AskedFor(chain, Role.IMAGE, mac) if mac else None
    names = {
        "start": Role.SHIM,
        f"grub{chain.machine}": Role.SECOND,
        f"mm{chain.machine}": Role.KEYS,
    }
    role = names.get(match[4].lower())
    if mac and match[4].startswith(_ENTRY):
        return AskedFor(chain, Role.IMAGE, mac, match[4].removeprefix(_ENTRY))
    return AskedFor(chain, role, mac) if role else None


def image_of(chain: Chain, mac: str) -> str:
    """The path of a machine's image."""
    return f"{FOLDER}/{mac.replace(':', '-')}.{chain.machine}.efi"


def entry_image(mac: str, entry: str) -> str:
    """The path of the image of an entry in a machine's menu, as GRUB asks for it; empty for a name
    that has no place in a path."""
    if not _NAME.fullmatch(entry):
        return ""
    return f"{FOLDER}/{mac.replace(':', '-')}.{_GRUBS_CPU}/{_ENTRY}{entry}.efi"


def shim_before(chain: Chain, mac: str | None) -> str:
    """The path of the shim that goes on to a machine's image; without one, to Daskel's own boot
    loader."""
    own = f"{mac.replace(':', '-')}." if mac else f"{_FOR_ALL}-"
    return f"{FOLDER}/{own}{chain.machine}/start.efi"


def second_stage(chain: Chain, mac: str | None) -> str:
    """What that shim asks for."""
    return f"{shim_before(chain, mac).rpartition('/')[0]}/grub{chain.machine}.efi"


def stub_path(chain: Chain) -> str:
    """Where the stub of its machines' images is, below `files`."""
    return f"{FOLDER}/stub-{chain.machine}.efi"


def stub_source(chain: Chain) -> str:
    """Where the package has it."""
    return f"{_STUBS}/linux{chain.machine}.efi.stub"


def stub_package(chain: Chain) -> str:
    """Debian's, with its architecture where that is a foreign one."""
    return STUB_PACKAGE if chain.debian == "amd64" else f"{STUB_PACKAGE}:{chain.debian}"


def boots_by_itself(found: Effective) -> bool:
    """Whether a machine gets one image and no boot loader: it has nothing to choose."""
    return found.choice is None and wants_loader(found) and is_one_image(found)


def is_one_image(found: Effective) -> bool:
    """Whether what a machine boots, or an entry of its menu, is one image."""
    loadout = found.loadout
    kernel = loadout is not None and bool(loadout.kernel) and not loadout.leaves
    return found.loader == "none" and kernel


def starts_images(found: Effective) -> bool:
    """Whether the menu of a machine starts images, which the site's key signs: by shim's leave. A
    boot loader that the firmware itself trusts starts nothing."""
    return found.loader == "none" and found.choice is not None and found.secure_boot == "mok"
