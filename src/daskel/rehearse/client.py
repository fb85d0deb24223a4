"""One simulated client: boots from DISCOVER to reading its root, with the real protocols."""

from __future__ import annotations

import re
import shlex
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from hashlib import sha256
from ipaddress import IPv4Address
from zlib import crc32

from daskel.core.boot.loader import config_path
from daskel.core.boot.wire import Wire
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import Packet
from daskel.core.dhcp.pxe import Firmware
from daskel.core.reader import MalformedError
from daskel.rehearse.fetch import DIRECT, BootError, NfsRoot, Way, get_address, http_get, tftp_get
from daskel.rehearse.firmware import LOADER, SYSTEM, Face

_DEVICE = re.compile(r"\((tftp|http),([^)]+)\)/(.*)")
_NFS_ROOT = re.compile(r"(?:([\d.]+):)?(/[^,]*)(?:,(.*))?")


@dataclass(frozen=True, slots=True)
class Got:
    """A file that the client received."""

    what: str  # loader, configuration, kernel, initrd, or root
    path: str
    size: int  # bytes
    digest: str  # SHA-256, hexadecimal
    seconds: float


@dataclass
class Boot:
    """How far one simulated client came."""

    name: str
    mac: str
    firmware: Firmware
    stage: str = "nothing"
    address: IPv4Address | None = None
    command_line: str = ""
    files: list[Got] = field(default_factory=list)
    seconds: float = 0.0
    problem: str = ""


def boot(
    wire: Wire,
    server: IPv4Address,
    name: str,
    mac: str,
    firmware: Firmware,
    progress: Callable[[Boot], None],
    way: Way = DIRECT,
) -> Boot:
    """Boot one client against the DHCP server at `server`. Never raises for what goes wrong in
    the boot: the result says it."""
    result = Boot(name, mac, firmware)
    began = time.monotonic()
    try:
        _Booting(wire, server, result, progress, way).run()
    except (BootError, MalformedError, OSError, ValueError) as error:
        result.problem = str(error)
    result.seconds = time.monotonic() - began
    progress(result)
    return result


class _Booting:
    def __init__(
        self, wire: Wire, server: IPv4Address, result: Boot, progress: Callable[[Boot], None],
        way: Way,
    ) -> None:  # fmt: skip
        self._way = way
        self._wire, self._server, self._result, self._progress = wire, server, result, progress
        self._face = Face.of(result.firmware)
        self._folder = ""  # the URL that an HTTP boot file was in
        self._xid = crc32(result.mac.encode())

    def run(self) -> None:
        acknowledged = get_address(
            self._wire, self._server, self._face, self._result.mac, self._xid, self._way
        )
        self._result.address = acknowledged.yiaddr
        self._stage("addressed")
        self._loader(acknowledged)
        kernel, initrds = self._configuration(acknowledged.siaddr)
        self._fetch("kernel", kernel)
        for initrd in initrds:
            self._fetch("initrd", initrd)
        self._system()

    def _stage(self, stage: str) -> None:
        self._result.stage = stage
        self._progress(self._result)

    def _loader(self, acknowledged: Packet) -> None:
        file = acknowledged.options.get(Code.BOOT_FILE, b"").rstrip(b"\0") or acknowledged.file
        if not file:
            raise BootError("the reply names no boot file")
        if (
            acknowledged.options.get(Code.VENDOR_CLASS)
            != self._face.vendor_class[:10].rstrip(":").encode()
        ):
            raise BootError("the reply lacks option 60, which this firmware needs")
        if self._result.firmware.over_http:
            url, began = file.decode(), time.monotonic()
            self._keep("loader", url, http_get(self._wire, self._own, url), began)
            self._folder = url.rsplit("/", 1)[0]
        else:
            self._tftp("loader", acknowledged.siaddr, file.decode(), self._face)
        self._stage("loader")

    def _configuration(self, server: IPv4Address) -> tuple[str, list[str]]:
        """What the boot loader is told to load: kernel and initrds, as the loader names them."""
        path = config_path(self._result.mac)
        if self._folder:
            url, began = f"{self._folder}/{path.rsplit('/', 1)[1]}", time.monotonic()
            data = http_get(self._wire, self._own, url)
            self._keep("configuration", url, data, began)
        else:
            data = self._tftp("configuration", server, path, LOADER)
        text = data.decode()
        kernel, initrds = _default_entry(text)
        if not kernel:
            raise BootError("the loader's configuration names no kernel")
        self._result.command_line = " ".join(kernel[1:])
        self._stage("menu")
        return kernel[0], initrds

    def _fetch(self, what: str, name: str) -> None:
        match = _DEVICE.fullmatch(name)
        if match is None:
            raise BootError(f"the loader cannot read {name}")
        protocol, server, path = match.groups()
        if protocol == "http":
            began, url = time.monotonic(), f"http://{server}/{path}"
            self._keep(what, path, http_get(self._wire, self._own, url), began)
        else:
            self._tftp(what, IPv4Address(server), path, LOADER)
        self._stage(what)

    def _system(self) -> None:
        """The kernel runs: its own DHCP, under another client identifier, and its root."""
        result = self._result
        acknowledged = get_address(
            self._wire, self._server, SYSTEM, result.mac, self._xid ^ 0xFFFFFFFF, self._way
        )
        if acknowledged.yiaddr != self._own:
            raise BootError(f"the system got {acknowledged.yiaddr}, the firmware {self._own}")
        self._stage("running kernel")
        arguments = dict(a.partition("=")[::2] for a in result.command_line.split())
        match = _NFS_ROOT.fullmatch(arguments.get("nfsroot", ""))
        if match is None:
            return  # runs from memory
        server = IPv4Address(match[1] or acknowledged.siaddr)
        began = time.monotonic()
        root = NfsRoot(self._wire, self._own, server, match[2])
        try:
            for path, data in root.files():
                self._keep("root", path, data, began)
                began = time.monotonic()
        finally:
            root.close()
        self._stage("root")

    @property
    def _own(self) -> IPv4Address:
        assert self._result.address, "set by the first ACK"
        return self._result.address

    def _tftp(self, what: str, server: IPv4Address, path: str, face: Face) -> bytes:
        began = time.monotonic()
        data = tftp_get(self._wire, self._own, server, path, face)
        self._keep(what, path, data, began)
        return data

    def _keep(self, what: str, path: str, data: bytes, began: float) -> None:
        digest = sha256(data).hexdigest()
        seconds = time.monotonic() - began
        self._result.files.append(Got(what, path, len(data), digest, seconds))


def _default_entry(text: str) -> tuple[list[str], list[str]]:
    """Kernel with its arguments, and initrds: of the menu's default entry, or of all there is."""
    default, entry = "", ""
    kernels: dict[str, list[str]] = {}
    initrds: dict[str, list[str]] = {}
    for line in text.splitlines():
        words = shlex.split(line.strip().removesuffix("; then"), comments=True)
        if words[:1] == ["set"] and words[1].startswith("default="):
            default = words[1].removeprefix("default=")
        elif words[:1] == ["menuentry"]:
            entry = words[words.index("--id") + 1]
        elif words[:2] == ["if", "linux"]:
            kernels[entry] = words[2:]
        elif words[:2] == ["if", "initrd"]:
            initrds[entry] = words[2:]
    return kernels.get(default, []), initrds.get(default, [])
