"""The boot loader's part: which image each firmware gets, and GRUB's configuration per client."""

from __future__ import annotations

import re

from daskel.core.boot.wire import Ports
from daskel.core.dhcp.pxe import Firmware
from daskel.core.site.layers import Effective, Sourced
from daskel.core.site.model import Loadout, Segment
from daskel.core.values import parse_mac

FOLDER = "loader"
IMAGES = {"bios": "bios.img", "uefi-x64": "uefi-x64.efi", "uefi-arm64": "uefi-arm64.efi"}
_LOADER = {
    Firmware.BIOS: "bios",
    Firmware.UEFI: "uefi-x64",
    Firmware.UEFI_HTTP: "uefi-x64",
    Firmware.ARM64: "uefi-arm64",
    Firmware.ARM64_HTTP: "uefi-arm64",
}
_CONFIG = re.compile(rf"{FOLDER}/([0-9a-f:\-]{{12,17}})\.cfg", re.IGNORECASE)

# Built into the images: where to ask for the client's own configuration. GRUB keeps the address
# that the firmware got; on UEFI $cmdpath is the folder it was loaded from, by TFTP or HTTP.
BUILT_IN = f"""\
if [ "$grub_platform" = efi ]; then
  configfile $cmdpath/$net_default_mac.cfg
fi
configfile (tftp,$net_default_server)/{FOLDER}/$net_default_mac.cfg
echo "The server has no configuration for this machine ($net_default_mac)."
sleep 10
exit
"""
BUILT_IN_NAME = "daskel.cfg"


def loader_name(firmware: Firmware) -> str:
    return _LOADER[firmware]


def image_path(loader: str) -> str:
    return f"{FOLDER}/{IMAGES[loader]}"


def boot_file(firmware: Firmware, segment: Segment, ports: Ports) -> str:
    """What goes into the DHCP reply: a path for TFTP, a URL for firmware that boots over HTTP."""
    path = image_path(loader_name(firmware))
    return f"{http_base(segment, ports)}/{path}" if firmware.over_http else path


def http_base(segment: Segment, ports: Ports) -> str:
    return f"http://{segment.server}" + (f":{ports.http}" if ports.http != Ports.http else "")


def config_path(mac: str) -> str:
    return f"{FOLDER}/{mac}.cfg"


def config_mac(path: str) -> str | None:
    """The MAC address in the path of a configuration; None for any other path."""
    match = _CONFIG.fullmatch(path)
    try:
        return parse_mac(match.group(1)) if match else None
    except ValueError:
        return None


def devices(segment: Segment, ports: Ports) -> dict[str, str]:
    """How GRUB names the server, by the protocol that it is to use."""
    http = str(segment.server) + (f":{ports.http}" if ports.http != Ports.http else "")
    return {"tftp": f"(tftp,{segment.server})", "http": f"(http,{http})"}


def configuration(
    found: Effective, device: str, arguments: tuple[Sourced[str], ...], site_name: str
) -> str:
    """GRUB's configuration for one client, which loads from `device`."""
    boot = found.boot.value if found.boot else "nothing"
    lines = [f"# {found.name} at {site_name}: loadout {boot}"]
    if found.loadout is None or found.loadout.boot == "local":
        return "\n".join([*lines, "exit", ""])
    lines += _load(found.loadout, device, [a.value for a in arguments], f"{found.name}: {boot}")
    lines += [f'echo "{_echo(found.name)}: {_echo(boot)} could not be loaded."', "sleep 10", "exit"]
    return "\n".join([*lines, ""])


def _load(loadout: Loadout, device: str, arguments: list[str], title: str) -> list[str]:
    words = [f"{device}/{loadout.kernel}", *arguments]
    lines = [
        f'echo "{_echo(title)}"',
        "if linux " + " ".join(map(_quoted, words)) + "; then",
    ]
    if loadout.initrd:
        files = " ".join(_quoted(f"{device}/{file}") for file in loadout.initrd)
        return [*lines, f"  if initrd {files}; then", "    boot", "  fi", "fi"]
    return [*lines, "  boot", "fi"]


def _quoted(word: str) -> str:
    """A word of GRUB's script language, with single quotes only where they are needed."""
    if re.fullmatch(r"[\w(),./:=@%+\-]+", word):
        return word
    return "'" + word.replace("'", "'\\''") + "'"


def _echo(text: str) -> str:
    return re.sub(r'["$\\`]', "", text)
