"""U-Boot's part: the script that it fetches before anything else, computed for each client, in
U-Boot's own image format (legacy image header, 64 bytes, big-endian; type script)."""

from __future__ import annotations

import re
import struct
from ipaddress import IPv4Address
from zlib import crc32

from daskel.core.content.grub import NOBODY, Entry
from daskel.core.site.layers import Effective

_HEADER = struct.Struct("!7I4B32s")
_MAGIC, _LINUX, _SCRIPT, _PLAIN = 0x27051956, 5, 6, 0
_ARM64 = 22  # nothing looks at it in a script


def image(script: str, name: str) -> bytes:
    """A script as U-Boot takes it; `name` is shown when it is run."""
    text = script.encode()
    data = struct.pack("!2I", len(text), 0) + text  # the sizes of its parts, closed by 0

    def header(own: int) -> bytes:
        return _HEADER.pack(
            _MAGIC, own, 0, len(data), 0, 0, crc32(data), _LINUX, _ARM64, _SCRIPT, _PLAIN,
            name.encode("ascii", "replace")[:31],
        )  # fmt: skip

    return header(crc32(header(0))) + data


def boot_script(found: Effective, server: IPv4Address, entry: Entry | None) -> str:
    """What one client does: load kernel and initrd by TFTP, and start them. Kernels of 64 and of
    32 bits have a command each; the device tree is the board's own."""
    boot = found.boot.value if found.boot else "nothing"
    if entry is None or entry.loadout.leaves or not entry.loadout.kernel:
        return f"echo {_quoted(f'{found.name}: it starts from its own disk')}\n"
    words = " ".join(argument.value for argument in entry.arguments)
    lines = [
        f"echo {_quoted(f'{found.name}: {boot}')}",
        f"setenv serverip {server}",
        f"setenv bootargs {_quoted(words)}",
        "setenv daskel_initrd -",
        "setenv daskel_at ${ramdisk_addr_r}",
        'if test -n "${fdt_addr}"; then setenv daskel_fdt ${fdt_addr}; '
        "else setenv daskel_fdt ${fdtcontroladdr}; fi",
    ]
    for number, path in enumerate(entry.loadout.initrd):
        lines.append(_stops(f"tftpboot ${{daskel_at}} {_quoted(path)}", path))
        last = number == len(entry.loadout.initrd) - 1
        if number == 0 and last:
            lines.append("setenv daskel_initrd ${ramdisk_addr_r}:${filesize}")
            continue
        lines.append("setexpr daskel_at ${daskel_at} + ${filesize}")
        if last:
            lines.append("setexpr daskel_size ${daskel_at} - ${ramdisk_addr_r}")
            lines.append("setenv daskel_initrd ${ramdisk_addr_r}:${daskel_size}")
    kernel = entry.loadout.kernel
    lines.append(_stops(f"tftpboot ${{kernel_addr_r}} {_quoted(kernel)}", kernel))
    start = "${kernel_addr_r} ${daskel_initrd} ${daskel_fdt}"
    lines += [f"booti {start}", f"bootz {start}"]
    return "\n".join([*lines, ""])


def waiting_script(mac: str, site_name: str, seconds: int = 10, *, away: bool = False) -> str:
    """Of a machine in the lobby: it says who it is, and starts over until it is admitted. `away`:
    nobody can be, since the store does not answer."""
    return "\n".join([
        f"echo {_quoted(f'{site_name}: this machine is not known here yet: {mac}')}",
        f"echo {_quoted(f'daskel lobby admit {mac} --name NAME --group GROUP')}",
        *([f"echo {_quoted(NOBODY)}"] if away else []),
        f"sleep {seconds}", "reset", "",
    ])  # fmt: skip


def _stops(command: str, path: str) -> str:
    return f"if {command}; then true; else echo {_quoted(f'{path} was not sent')}; exit; fi"


def _quoted(word: str) -> str:
    """A word of U-Boot's shell, in single quotes."""
    if re.fullmatch(r"[\w./:=@%+,-]+", word):
        return word
    return "'" + word.replace("'", "'\"'\"'") + "'"
