"""The boot loader's part: which image each firmware gets, and GRUB's configuration per client."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum

from daskel.core.boot.wire import Ports, host
from daskel.core.dhcp.pxe import Firmware
from daskel.core.site.layers import Effective, Sourced
from daskel.core.site.tables import Choice, Loadout, Segment
from daskel.core.values import parse_mac

FOLDER = "loader"
BIOS = "bios"
MACHINES = {  # the boot loaders, and for which machines those of UEFI are
    BIOS: None, "uefi-x64": "x64", "uefi-x86": "x86", "uefi-arm64": "arm64", "uefi-arm": "arm",
}  # fmt: skip
IMAGES = {name: f"{name}.img" if name == BIOS else f"{name}.efi" for name in MACHINES}


@dataclass(frozen=True, slots=True)
class BuiltFrom:
    """What a loader's image is built from: GRUB's modules for a platform, and the packages that
    have them on Debian (with the architecture, where it is a foreign one) and on Fedora."""

    platform: str
    debian: str
    fedora: str = ""


SOURCES = {
    BIOS: BuiltFrom("i386-pc", "grub-pc-bin", "grub2-pc-modules"),
    "uefi-x64": BuiltFrom("x86_64-efi", "grub-efi-amd64-bin", "grub2-efi-x64-modules"),
    "uefi-x86": BuiltFrom("i386-efi", "grub-efi-ia32-bin", "grub2-efi-ia32-modules"),
    "uefi-arm64": BuiltFrom("arm64-efi", "grub-efi-arm64-bin:arm64", "grub2-efi-aa64-modules"),
    "uefi-arm": BuiltFrom("arm-efi", "grub-efi-arm-bin:armhf"),
}


def apt_install(packages: Sequence[str]) -> str:
    """The command that installs packages on Debian, also those of a foreign architecture."""
    foreign = dict.fromkeys(name.partition(":")[2] for name in packages if ":" in name)
    first = "".join(f"dpkg --add-architecture {name} && " for name in foreign)
    first += "apt update && " if foreign else ""
    return f"{first}apt install {' '.join(packages)}"


class ConfigKind(Enum):
    """What a path with a MAC address asks for, by the end of its name."""

    WHOLE = "cfg"
    SIGNED = "signed"  # the same for the distribution's signed GRUB, which knows no HTTP
    ADMITTED = "admitted"  # only whether that machine was admitted


_ENDS = "|".join(kind.value for kind in ConfigKind)
_CONFIG = re.compile(rf"{FOLDER}/([0-9a-f:\-]{{12,17}})\.({_ENDS})", re.IGNORECASE)

# Built into the images: where to ask for the client's own configuration. GRUB keeps the address
# that the firmware got; on UEFI $cmdpath is the folder it was loaded from, by TFTP or HTTP.
# Beside another DHCP server UEFI images take the other server for theirs, so the right one is
# written into them as they are sent. (BIOS images are compressed, and know the right one.)
# GRUB's core runs these lines one by one, whether or not one fails; it knows no `if`.
# Over HTTP, and with a name server in the firmware's DHCP reply, it finds no address, MAC or server
# of its own (grub 2.06, efinet): it asks for an address on all its cards (net_bootp), and then for
# the configuration of the machine that asks. Over IPv6 and HTTP it finds none either, and has no
# command that asks: the address that the image is sent to, and its network, are written into it.
_MARK = f"({'daskel-server-'.ljust(52, '.')})"  # with room for IPv6, and a port
_BLANK = f"{_MARK}/{FOLDER}/$net_default_mac.cfg"
_BLANK_OWN = f"{_MARK}/{FOLDER}/own.cfg"
_ADDRESS = "daskel-address-".ljust(40, ".")  # with room for any address and network
_NETWORK = "daskel-network-".ljust(44, ".")
_OWN_ADDRESS = (
    f"net_add_addr own efinet0 {_ADDRESS}", f"net_add_route here {_NETWORK} own",
    f"configfile {_BLANK_OWN}",
)  # fmt: skip
_MOST_CARDS = 8
_STARTS = b"chainloader"  # a command that images of earlier versions did not have
_ASK = f"configfile (tftp,$net_default_server)/{FOLDER}/$net_default_mac.cfg"
_ASK_WHERE_LOADED = "configfile $cmdpath/$net_default_mac.cfg"
_NOTHING = """\
echo "The server has no configuration for this machine ($net_default_mac)."
sleep 10
exit
"""


def built_in(loader: str) -> str:
    """The lines that are built into one boot loader's image."""
    if loader == BIOS:
        return f"{_ASK}\n{_NOTHING}"
    told = [f"configfile {_BLANK}", _ASK_WHERE_LOADED, _ASK]
    anew = ["net_bootp", f"configfile {_BLANK_OWN}", "configfile $cmdpath/own.cfg"]
    return "\n".join([*told, *_OWN_ADDRESS, *anew, _NOTHING])


def is_outdated(loader: str, image: bytes) -> bool:
    """Whether an image of UEFI is Daskel's own, of an earlier version. (Of those for BIOS, which
    are compressed, it cannot be told.)"""
    marked = loader != BIOS and _MARK.encode() in image
    return marked and not all(part in image for part in (built_in(loader).encode(), _STARTS))


def with_server(image: bytes, device: str, own: tuple[str, str] | None = None) -> bytes:
    """A boot loader's image that asks `device` (as in `devices`) first; of the same length. `own`:
    the address and network of its machine, where it finds none by itself."""
    for blank, value in zip((_ADDRESS, _NETWORK), own or (), strict=False):
        image = image.replace(blank.encode(), value.ljust(len(blank)).encode())
    for blank in (_BLANK, _BLANK_OWN):
        line = blank.replace(_MARK, device).ljust(len(blank))
        image = image.replace(blank.encode(), line.encode())
    return image


def wants_loader(found: Effective) -> bool:
    """False for machines with nothing to boot, or that start from their own disk at once."""
    if found.choice is not None:
        return True
    return found.loadout is not None and not found.loadout.leaves


def loader_name(firmware: Firmware) -> str:
    """The boot loader of a firmware, as `loaders` in the site file names it."""
    return firmware.value.removesuffix("-http")


def image_path(loader: str) -> str:
    """The path of a boot loader's image, below `files` and on the wire."""
    return f"{FOLDER}/{IMAGES[loader]}"


def is_built_in(path: str) -> bool:
    """The path or URL of one of Daskel's own boot loaders."""
    return any(path.endswith(f"{FOLDER}/{image}") for image in IMAGES.values())


def boot_file(firmware: Firmware, segment: Segment, ports: Ports) -> str:
    """What goes into the DHCP reply: a path for TFTP, a URL for firmware that boots over HTTP."""
    path = image_path(loader_name(firmware))
    return f"{http_base(segment, ports)}/{path}" if firmware.over_http else path


def http_base(segment: Segment, ports: Ports) -> str:
    """The beginning of every URL of a segment's server, without a slash at its end."""
    return f"http://{host(segment.server)}" + (f":{ports.http}" if ports.http != Ports.http else "")


OWN_CONFIG = f"{FOLDER}/own.cfg"  # of the machine that asks


def by_cards(device: str) -> str:
    """GRUB's configuration where nobody knows who asks: for each card in turn, that of its MAC
    address."""
    lines = []
    for number in range(_MOST_CARDS):
        mac = f"net_efinet{number}_dhcp_mac"
        ask = f"configfile {_open(device)}/{FOLDER}/${mac}.cfg"
        lines.append(f'if [ -n "${mac}" ]; then {ask}; fi')
    return "\n".join([*lines, ""])


def config_path(mac: str) -> str:
    """The path at which a machine's boot loader asks for its configuration."""
    return f"{FOLDER}/{mac}.cfg"


def config_mac(path: str) -> tuple[str, ConfigKind] | None:
    """The MAC address in the path of a configuration, and what is asked for; None for any other
    path."""
    match = _CONFIG.fullmatch(path)
    try:
        return (parse_mac(match[1]), ConfigKind(match[2].lower())) if match else None
    except ValueError:
        return None


def devices(segment: Segment, ports: Ports) -> dict[str, str]:
    """How GRUB names the server, by the protocol that it is to use."""
    http = http_base(segment, ports).removeprefix("http://")
    return {"tftp": f"(tftp,{host(segment.server)})", "http": f"(http,{http})"}


def load_from(
    found: Effective, segment: Segment, ports: Ports, over: str, *, signed: bool = False
) -> tuple[str, ...]:
    """The devices that GRUB loads kernels from, each when the one before does not answer. `over`
    is what it asked for its configuration over: who came over HTTP has nothing else. `signed`: it
    is the distribution's own, which knows no HTTP."""
    known = devices(segment, ports)
    if over == "http":
        return (known["http"],)
    if signed or found.fetches == "tftp":
        return (known["tftp"],)
    return known["http"], known["tftp"]


@dataclass(frozen=True, slots=True)
class Entry:
    """One loadout that a client can boot: its name, and the kernel's whole command line."""

    name: str
    loadout: Loadout
    arguments: Sequence[Sourced[str]] = ()
    load_from: Sequence[str] = ()  # GRUB's devices, each for when the one before fails
    image: str = ""  # the path of one to start instead; may name GRUB's variables

    @property
    def title(self) -> str:
        """What stands in the menu."""
        return self.loadout.title or self.name


def configuration(found: Effective, entries: Sequence[Entry], site_name: str) -> str:
    """GRUB's configuration for one client: a menu when the site gives it a choice, else the one
    entry at once."""
    boot = found.boot.value if found.boot else "nothing"
    head = [f"# {found.name} at {site_name}: {boot}"]
    if found.choice is not None:
        return "\n".join([*head, *_menu(found.choice, entries, found.name), ""])
    if not entries or entries[0].loadout.leaves:
        return "\n".join([*head, "exit", ""])
    lines = _load(entries[0], f"{found.name}: {boot}")
    failed = f'echo "{_echo(found.name)}: {_echo(boot)} could not be loaded."'
    return "\n".join([*head, *lines, failed, "sleep 10", "exit", ""])


def restarting(client: str) -> str:
    """GRUB's configuration for a machine that was in the lobby, and gets no boot loader now: its
    firmware asks anew."""
    said = f'echo "{_echo(client)}: it starts again, without a boot loader."'
    return "\n".join([f"# {client} boots without a boot loader", said, "sleep 3", "reboot", ""])


def waiting(mac: str, address: str, device: str, site_name: str, asked: str) -> str:
    """GRUB's configuration for a machine in the lobby: says who it is, asks again by itself, and
    boots when it was admitted. It asks for a small file, since a configuration that loads itself
    again and again would fill GRUB's memory in a night. `asked`: the path that it asked for."""
    lines = [
        f"# {mac} waits in the lobby of {site_name}",
        "clear",
        f'echo "{_echo(site_name)}: this machine is not known here yet."',
        'echo ""',
        f'echo "  MAC address  {mac}"',
        f'echo "  address      {_echo(address)}"',
        'echo ""',
        'echo "It waits, and starts by itself when it is admitted:"',
        f'echo "  daskel lobby admit {mac} --name NAME --group GROUP"',
        "while [ 1 = 1 ]; do",
        "  sleep 4",
        f"  source {_open(device)}/{admitted_path(mac)}",
        '  if [ "$admitted" = yes ]; then',
        f"    configfile {_open(device)}/{asked}",
        "  fi",
        "done",
        "",
    ]
    return "\n".join(lines)


NO_INITRDS = "its initrds could not be loaded."
NOBODY = "The store of the server does not answer: nobody can be admitted until it does."


def still_waiting(*, away: bool) -> str:
    """What a machine in the lobby is told again and again: whether the store is `away`, once."""
    said, then = (NOBODY, "yes") if away else ("The store answers again.", "")
    other = '"$away" != yes' if away else '"$away" = yes'
    return f'if [ {other} ]; then echo "{said}"; set away={then}; fi\n'


def admitted_path(mac: str) -> str:
    """A line of GRUB's script that tells a waiting machine whether it has something to boot."""
    return f"{FOLDER}/{mac}.admitted"


def _menu(choice: Choice, entries: Sequence[Entry], client: str) -> list[str]:
    lines = [
        f"set timeout={choice.wait}",
        f"set timeout_style={'hidden' if choice.hidden else 'menu'}",
        f"set default={_quoted(choice.chosen)}",
    ]
    if choice.title:
        lines.append(f'echo "{_echo(choice.title)}"')
    locked = [entry for entry in entries if entry.loadout.password]
    if locked:  # nobody is the superuser: editing and the command line are closed, too
        lines.append(f'set superusers="{" ".join(_user(entry) for entry in locked)}"')
        lines += [f"password_pbkdf2 {_user(e)} {e.loadout.password}" for e in locked]
    for entry in entries:
        who = f"--users {_user(entry)}" if entry.loadout.password else "--unrestricted"
        title = entry.title + (f"  (user name: {_user(entry)})" if entry.loadout.password else "")
        lines.append(f"menuentry {_quoted(title)} --id {_quoted(entry.name)} {who} {{")
        body = ["exit"] if entry.loadout.leaves else _load(entry, f"{client}: {entry.title}")
        lines += [f"  {line}" for line in body] + ["}"]
    return lines


def _user(entry: Entry) -> str:
    """The user name that a locked entry asks for: the loadout's name."""
    return re.sub(r"[^\w-]", "_", entry.name)


def _load(entry: Entry, title: str) -> list[str]:
    """A kernel is loaded once at most: GRUB loses the command line of a second one, which it frees
    together with the first. So a kernel that came gets its initrds from wherever they come, and
    where they come from nowhere the machine begins anew."""
    lines = [f'echo "{_echo(title)}"']
    for number, device in enumerate(entry.load_from):
        if entry.image:
            lines += [f"if chainloader {_open(device)}/{entry.image}; then", "  boot", "fi"]
            continue
        lines.append(f"{'elif' if number else 'if'} {_kernel(entry, device)}; then")
        lines += [f"  {line}" for line in _start(entry, entry.load_from[number:], title)]
    return lines if entry.image else [*lines, "fi"]


def _kernel(entry: Entry, device: str) -> str:
    given = [argument.value for argument in entry.arguments]
    # GRUB itself puts quotes around a word with spaces, and breaks those that are in it
    words = [f"{device}/{entry.loadout.kernel}", *(w.replace('"', "") for w in given)]
    return "linux " + " ".join(map(_quoted, words))


def _start(entry: Entry, devices: Sequence[str], title: str) -> list[str]:
    """The kernel is there."""
    if not entry.loadout.initrd:
        return ["boot"]
    lines = []
    for device in devices:
        files = " ".join(_quoted(f"{device}/{file}") for file in entry.loadout.initrd)
        lines += [f"if initrd {files}; then", "  boot", "fi"]
    return [*lines, f'echo "{_echo(title)}: {NO_INITRDS}"', "sleep 10", "exit"]


def _open(device: str) -> str:
    """A device in front of a path in which variables are to be filled in: brackets, as IPv6
    addresses have, are a pattern for GRUB's script language."""
    return f'"{device}"' if "[" in device else device


def _quoted(word: str) -> str:
    """A word of GRUB's script language, with single quotes only where they are needed."""
    if re.fullmatch(r"[\w(),./:=@%+\-]+", word):
        return word
    return "'" + word.replace("'", "'\\''") + "'"


def _echo(text: str) -> str:
    return re.sub(r'["$\\`]', "", text)
