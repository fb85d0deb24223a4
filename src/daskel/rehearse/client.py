"""One simulated client: boots from DISCOVER to reading its root, with the real protocols."""

from __future__ import annotations

import re
import shlex
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from hashlib import sha256
from ipaddress import IPv4Address
from urllib.parse import urlsplit
from zlib import crc32

from daskel.core.boot import images
from daskel.core.boot.wire import Wire
from daskel.core.content import up
from daskel.core.content.grub import config_path, is_built_in
from daskel.core.content.signed_chain import CONFIGURATION, Chain, chain_of
from daskel.core.content.unified_images import Role, asked_for, second_stage, shim_before
from daskel.core.dhcp.client_messages import LOADER, SYSTEM, UBOOT, Face
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import Packet
from daskel.core.dhcp.pxe import SCRIPT, processor
from daskel.core.reader import MalformedError
from daskel.core.roots.kernels import HEAD, kernel_processor
from daskel.rehearse.fetch import (
    DIRECT,
    BootError,
    NfsRoot,
    Way,
    get_address,
    http_pieces,
    http_tell,
    tftp_pieces,
)
from daskel.rehearse.image_parts import ImageParts
from daskel.rehearse.images import ImageRoot

_STARTS = "chainloader"  # GRUB's command, for an image
_SCRIPT_HEAD = 72  # bytes before the text of U-Boot's script
_DEVICE = re.compile(r"\((tftp|http),([^)]+)\)/(.*)")
_NFS_ROOT = re.compile(r"(?:([\d.]+):)?(/[^,]*)(?:,(.*))?")


@dataclass(frozen=True, slots=True)
class Got:
    """A file that the client received."""

    what: str  # loader, configuration, kernel, initrd, image (of these two), or root
    path: str
    size: int  # bytes
    digest: str  # SHA-256, hexadecimal
    seconds: float
    shared: int = 0  # bytes that came to others at the same time


@dataclass
class SimulatedBoot:
    """How far one simulated client came. Times are seconds."""

    name: str
    mac: str
    firmware: str
    stage: str = "nothing"
    address: IPv4Address | None = None
    command_line: str = ""
    files: list[Got] = field(default_factory=list)
    stages: list[tuple[str, float]] = field(default_factory=list)  # when it came to each
    again: list[str] = field(default_factory=list)  # what it had to ask for again
    seconds: float = 0.0
    problem: str = ""
    unsure: list[str] = field(default_factory=list)  # what could not be known, for people
    note: str = ""  # why it is simulated no further, where that is not a problem


@dataclass(frozen=True, slots=True)
class Board:
    """What a board without a boot loader from the network asks for: text files of its own, and
    what they name."""

    texts: Sequence[str]
    kernel: str
    initrd: Sequence[str]


# What is read of a root: given the kernel's arguments and processor, and where to say what could
# not be known.
Read = Callable[[NfsRoot, str, str | None, list[str]], Iterable[tuple[str, bytes]]]


def whole_root(
    root: NfsRoot, _: str, __: str | None, ___: list[str]
) -> Iterable[tuple[str, bytes]]:  # fmt: skip
    """Every file that there is."""
    return root.files()


def boot(  # noqa: PLR0913 - all that it stands on, by name
    wire: Wire,
    server: IPv4Address,
    name: str,
    mac: str,
    face: Face,
    progress: Callable[[SimulatedBoot], None],
    way: Way = DIRECT,
    read: Read = whole_root,
    board: Board | None = None,
) -> SimulatedBoot:
    """Boot one client against the DHCP server at `server`; `read` says what of its root. Never
    raises for what goes wrong in the boot: the result says it."""
    result = SimulatedBoot(name, mac, face.name)
    began = time.monotonic()
    try:
        _Booting(wire, server, result, face, progress, way, read, board).run()
    except (BootError, MalformedError, OSError, ValueError) as error:
        result.problem = str(error)
    result.seconds = time.monotonic() - began
    progress(result)
    return result


class _Booting:
    def __init__(  # noqa: PLR0913 - all that it stands on, by name
        self, wire: Wire, server: IPv4Address, result: SimulatedBoot, face: Face,
        progress: Callable[[SimulatedBoot], None], way: Way, read: Read, board: Board | None,
    ) -> None:  # fmt: skip
        self._way, self._read, self._board = way, read, board
        self._wire, self._server, self._result, self._progress = wire, server, result, progress
        self._face, self._began = face, time.monotonic()
        self._folder = ""  # the URL that an HTTP boot file was in
        self._kernel_head = b""
        self._image_parts: ImageParts | None = None
        self._xid = crc32(result.mac.encode())

    def run(self) -> None:
        acknowledged = self._address(self._face, self._xid)
        self._result.address = acknowledged.yiaddr
        self._stage("addressed")
        if self._board:
            self._texts(self._board, acknowledged)
        elif self._face.name == UBOOT and acknowledged.file == SCRIPT.encode():
            if not self._script(acknowledged.siaddr):
                return
        elif not self._loader(acknowledged) or not self._loaded(acknowledged.siaddr):
            return
        self._system()

    def _address(self, face: Face, xid: int) -> Packet:
        mac, again = self._result.mac, self._result.again
        return get_address(self._wire, self._server, face, mac, xid, self._way, again)

    def _stage(self, stage: str) -> None:
        self._result.stage = stage
        self._result.stages.append((stage, time.monotonic() - self._began))
        self._progress(self._result)

    def _loader(self, acknowledged: Packet) -> bool:
        """False when there is none, or nobody can know what it does."""
        raw = acknowledged.options.get(Code.BOOT_FILE, b"").rstrip(b"\0") or acknowledged.file
        file, vendor = raw.decode(), acknowledged.options.get(Code.VENDOR_CLASS, b"")
        if not file:
            self._result.note = "it gets no boot file, and starts from its own disk"
            self._stage("local disk")
            return False
        if self._face.over_http and not vendor.startswith(b"HTTPClient"):
            raise BootError("the reply has no option 60 (HTTPClient), which this firmware needs")
        own = asked_for(urlsplit(file).path.lstrip("/"))
        if own and own.role is Role.IMAGE:
            return self._whole(file, acknowledged.siaddr)
        self._firmware_fetches("loader", file, acknowledged.siaddr)
        self._folder = file.rsplit("/", 1)[0] if self._face.over_http else ""
        if chain := chain_of(file):
            self._chain(chain, acknowledged.siaddr)
            file = chain.goes_on_to
        if own:
            base = file.removesuffix(shim_before(own.chain, own.mac))
            file = base + second_stage(own.chain, own.mac)
            if own.mac:
                self._stage("loader")
                return self._whole(file, acknowledged.siaddr)
            self._firmware_fetches("loader", file, acknowledged.siaddr)
        self._stage("loader")
        if not own and not is_built_in(file):
            self._result.note = f"what {file} asks for next, only a machine shows: --machine"
            return False
        return True

    def _firmware_fetches(self, what: str, file: str, server: IPv4Address) -> None:
        """A path, or a URL, by what its firmware knows."""
        if self._face.over_http:
            self._keep(what, file, http_pieces(self._wire, self._own, file))
        else:
            self._tftp(what, server, file, self._face)

    def _whole(self, file: str, server: IPv4Address) -> bool:
        """One image of kernel, initrds and command line."""
        self._firmware_fetches("image", file, server)
        return self._take_parts(file)

    def _take_parts(self, file: str) -> bool:
        """What is in the image that came."""
        parts = self._image_parts
        if parts is None or not parts.kernel or not parts.line:
            raise BootError(f"{file} does not contain a kernel and a command line")
        self._kernel_head = bytes(parts.kernel)
        self._result.command_line = parts.line.decode("utf-8", "replace").strip(" \0")
        self._stage("kernel")
        self._stage("initrd")
        return True

    def _chain(self, chain: Chain, server: IPv4Address) -> None:
        """What is fetched where Secure Boot is off: shim, the signed GRUB, and Daskel's loader."""
        for path in (chain.second, CONFIGURATION, chain.goes_on_to):
            self._tftp("loader", server, path, LOADER)

    def _loaded(self, server: IPv4Address) -> bool:
        """Kernel and initrds, as the loader is told. False when it is told to leave."""
        if self._kernel_head:  # it had no loader
            return True
        tries = self._configuration(server)
        for number, (kernel, initrds) in enumerate(tries, 1):
            try:
                if kernel[:1] == [_STARTS]:
                    self._fetch("image", kernel[1])
                    return self._take_parts(kernel[1])
                self._fetch("kernel", kernel[0])
                self._stage("kernel")
                for initrd in initrds:
                    self._fetch("initrd", initrd)
                    self._stage("initrd")
            except BootError:
                if number == len(tries):
                    raise
            else:
                self._result.command_line = " ".join(kernel[1:])
                return True
        self._stage("local disk")
        return False

    def _configuration(self, server: IPv4Address) -> list[Try]:
        """What the boot loader is told to load; nothing when it is told to start from the local
        disk."""
        path = config_path(self._result.mac)
        if self._folder:
            url = f"{self._folder}/{path.rsplit('/', 1)[1]}"
            data = self._keep("configuration", url, http_pieces(self._wire, self._own, url))
        else:
            data = self._tftp("configuration", server, path, LOADER)
        tries, leaves = _default_entry(data.decode(), _cpu_of(self._face))
        if not tries and not leaves:
            raise BootError("the loader's configuration names no kernel")
        self._stage("menu")
        return tries

    def _texts(self, board: Board, acknowledged: Packet) -> None:
        """A board's own text files, and what they name."""
        server = acknowledged.siaddr if int(acknowledged.siaddr) else self._server
        for path in board.texts:
            text = self._tftp("configuration", server, path, self._face).decode("utf-8", "replace")
            lines = [line for line in text.splitlines() if "root=" in line]
            self._result.command_line = self._result.command_line or "".join(lines[:1])
        self._stage("menu")
        for what, paths in (("kernel", [board.kernel]), ("initrd", board.initrd)):
            for path in paths:
                self._tftp(what, server, path, self._face)
                self._stage(what)

    def _script(self, server: IPv4Address) -> bool:
        """U-Boot's script, and what it loads; False when that is nothing."""
        data = self._tftp("configuration", server, SCRIPT, self._face)
        self._stage("menu")
        text = data[_SCRIPT_HEAD:].decode("utf-8", "replace")
        words = [shlex.split(line.replace(";", " ; ")) for line in text.splitlines()]
        told = [line[2:] for line in words if line[:2] == ["setenv", "bootargs"]]
        loads = [line[line.index("tftpboot") :][:3] for line in words if "tftpboot" in line]
        if not loads:
            self._stage("local disk")
            return False
        self._result.command_line = " ".join(told[0]) if told else ""
        for _, place, path in loads:
            what = "kernel" if "kernel" in place else "initrd"
            self._tftp(what, server, path, self._face)
            self._stage(what)
        return True

    def _fetch(self, what: str, name: str) -> None:
        match = _DEVICE.fullmatch(name)
        if match is None:
            raise BootError(f"the loader cannot read {name}")
        protocol, server, path = match.groups()
        if protocol == "http":
            url = f"http://{server}/{path}"
            self._keep(what, path, http_pieces(self._wire, self._own, url))
        else:
            self._tftp(what, IPv4Address(server), path, LOADER)

    def _system(self) -> None:
        """The kernel runs: its own DHCP, under another client identifier, and its root."""
        result = self._result
        acknowledged = self._address(SYSTEM, self._xid ^ 0xFFFFFFFF)
        if acknowledged.yiaddr != self._own:
            raise BootError(f"the system got {acknowledged.yiaddr}, the firmware {self._own}")
        self._stage("running kernel")
        arguments = dict(a.partition("=")[::2] for a in result.command_line.split())
        if images.PRIVATE in arguments:
            result.unsure.append("its root comes through the tunnel, which only real machines have")
            return
        if images.ROOT in arguments:
            self._image(arguments, acknowledged.siaddr)
            return
        match = _NFS_ROOT.fullmatch(arguments.get("nfsroot", ""))
        if match is None:
            return  # runs from memory
        server = IPv4Address(match[1] or acknowledged.siaddr)
        root = NfsRoot(self._wire, self._own, server, match[2])
        try:
            processor = kernel_processor(self._kernel_head)
            for path, data in self._read(root, result.command_line, processor, result.unsure):
                self._keep("root", path, (data,))
            self._stage("root")
            if root.resolve(up.IN_ROOT):
                self._tell(server)
        finally:
            root.close()

    def _image(self, arguments: Mapping[str, str], server: IPv4Address) -> None:
        """Its root comes as an image."""
        began = time.monotonic()
        image = ImageRoot(self._wire, self._own, arguments)
        self._keep("root", image.url, image.pieces())
        if image.many:
            got = self._result.files[-1]
            self._result.files[-1] = replace(got, shared=got.size - image.many.alone)
        own = image.own_files()
        image.tell_mounted(time.monotonic() - began)
        self._stage("root")
        if f" {up.IN_ROOT.lstrip('/')}\n".encode() in own:
            self._tell(server)

    def _tell(self, server: IPv4Address) -> None:
        """As the script in its root does."""
        url, line = f"http://{server}/{up.TOLD_AT}", self._result.command_line
        http_tell(self._wire, self._own, url, up.told(time.monotonic() - self._began, line))
        self._stage("up")

    @property
    def _own(self) -> IPv4Address:
        assert self._result.address, "set by the first ACK"
        return self._result.address

    def _tftp(self, what: str, server: IPv4Address, path: str, face: Face) -> bytes:
        again = self._result.again
        return self._keep(what, path, tftp_pieces(self._wire, self._own, server, path, face, again))

    def _keep(self, what: str, path: str, pieces: Iterable[bytes]) -> bytes:
        """The content of a text; of everything else, no more than its digest is kept."""
        began, digest, size, text = time.monotonic(), sha256(), 0, b""
        self._kernel_head = b"" if what == "kernel" else self._kernel_head
        self._image_parts = parts = ImageParts() if what == "image" else None
        for piece in pieces:
            if what == "kernel" and len(self._kernel_head) < HEAD:
                self._kernel_head += piece
            if parts:
                parts.take(piece)
            digest.update(piece)
            size += len(piece)
            text += piece if what == "configuration" else b""
        seconds = time.monotonic() - began
        self._result.files.append(Got(what, path, size, digest.hexdigest(), seconds))
        return text


# The kernel, as the boot loader names it, with its arguments; and the initrds
Try = tuple[list[str], list[str]]


def _cpu_of(face: Face) -> str:
    """As GRUB calls it."""
    return "arm64" if processor(face.architecture or 0) == "arm64" else "x86_64"


def _default_entry(text: str, cpu: str) -> tuple[list[Try], bool]:
    """What is loaded, each when the one before failed, and whether it leaves: of the menu's default
    entry, or of all there is."""
    default, entry = "", ""
    leaving: set[str] = set()
    tries: dict[str, list[Try]] = {}
    for line in text.splitlines():
        words = shlex.split(line.strip().removesuffix("; then"), comments=True)
        if words[:1] == ["set"] and words[1].startswith("default="):
            default = words[1].removeprefix("default=")
        elif words[:1] == ["menuentry"]:
            entry = words[words.index("--id") + 1]
        elif words[:2] == ["if", _STARTS]:
            path = words[2].replace("$grub_cpu", cpu)
            tries.setdefault(entry, []).append(([_STARTS, path], []))
        elif words[:2] in (["if", "linux"], ["elif", "linux"]):
            tries.setdefault(entry, []).append((words[2:], []))
        elif words[:2] == ["if", "initrd"]:
            kernel, initrds = tries[entry][-1]
            if initrds:  # the kernel is there, and its initrds come from elsewhere
                tries[entry].append((kernel, words[2:]))
            else:
                initrds.extend(words[2:])
        elif words == ["exit"]:
            leaving.add(entry)
    return tries.get(default, []), default in leaving
