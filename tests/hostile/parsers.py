"""Everything that reads bytes of others, each with what it may raise, and good messages to begin
with. Used by the tests, and by `tools/fuzz` with atheris."""

from __future__ import annotations

import io
import tarfile
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from daskel.core.boot import images
from daskel.core.boot.template import FillError, render
from daskel.core.capture.frames import Capture
from daskel.core.content import image_steps, up
from daskel.core.content.paths import PathRefusedError, clean_path
from daskel.core.dhcp import options
from daskel.core.dhcp.client_messages import SYSTEM, Face, discover, renewal
from daskel.core.dhcp.packet import parse, parse_part, serialise
from daskel.core.dhcp.pxe import Firmware
from daskel.core.dhcp6.message import parse as parse_dhcp6
from daskel.core.history.events import ImageStep, Who
from daskel.core.nbd import requests as nbd
from daskel.core.nbd.handshake import AskNames, Export, Handshake
from daskel.core.nfs import calls, mount, nfs3, portmap
from daskel.core.nfs.calls import Make, NewAttributes, Write
from daskel.core.nfs.nfs3 import FileType, NfsError, Stable
from daskel.core.nfs.rpc import Records, mark, parse_call, serialise_call
from daskel.core.nfs.xdr import pack_opaque
from daskel.core.reader import MalformedError, Reader
from daskel.core.roots import inspect, kernels, partitions
from daskel.core.roots.linking import LinkError, linked
from daskel.core.roots.machine_mounts import file_systems
from daskel.core.site.parse import parse as parse_site
from daskel.core.tftp import packet as tftp
from daskel.service.nfs.procedures import _PROCEDURES
from daskel.system.captures import read_frames
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.archives import unpack
from daskel.system.roots.initrds import initrd_names
from daskel.system.roots.new_tree import SourceError
from tests.conftest import DEMO
from tests.core.roots.elf_files import elf

HANDLE, NEW = b"h" * 32, NewAttributes(0o644, 1, 2, 3, 4, 5)
_HERE = Path(__file__).parents[1]


@dataclass(frozen=True)
class Parser:
    """`read` may raise what is in `raises`, and nothing else; it ends soon."""

    read: Callable[[bytes], object]
    raises: tuple[type[Exception], ...]
    seeds: Sequence[bytes]


def _dhcp(data: bytes) -> None:
    for code, value in parse(data).options.items():
        options.show(code, value, None)


def _nbd(data: bytes) -> None:
    shaking = Handshake()
    question = shaking.receive(data)
    while question is not None:
        if isinstance(question, AskNames):
            question = shaking.names(["a@1"])
        else:
            images.asked_for(question.name)
            question = shaking.export(Export(1 << 20) if question.name == "a@1" else None, "no")
    if len(rest := shaking.rest) >= nbd.HEAD.size:
        nbd.refusal(nbd.parse(rest), Export(1 << 20))


def _mounts(data: bytes) -> None:
    parts = data.decode("utf-8", "replace").split("@@\n")
    file_systems(*[*parts, "", "", ""][:3])


def _dhcp6(data: bytes) -> None:
    found = parse_dhcp6(data)
    str((found.mac, found.address, found.lease, found.architecture, found.vendor_class))


class _OneFile:
    """A root that is the same file wherever one looks."""

    def __init__(self, data: bytes) -> None:
        self._data = data

    def read(self, _: str) -> bytes:
        return self._data

    def names(self, _: str) -> list[str]:
        return ["liba.so", "glibc-hwcaps"]

    def real(self, path: str) -> str:
        return path


def _linked(data: bytes) -> None:
    linked(_OneFile(data), "/init")


def _rpc(data: bytes) -> None:
    for record in Records().feed(data):
        parse_call(record)


def _nfs(data: bytes) -> None:
    """The first byte says which procedure's arguments the rest are."""
    found = list(_PROCEDURES.values())
    reader = Reader(data[1:], "arguments")
    found[(data[0] if data else 0) % len(found)][0](reader)
    reader.end()


def _portmap(data: bytes) -> None:
    portmap.answer(data[0] & 7 if data else 0, Reader(data[1:], "arguments"), {(1, 2): 3})


def _capture(data: bytes) -> None:
    """A capture's file, and what is in its frames."""
    with tempfile.NamedTemporaryFile() as file:
        file.write(data)
        file.flush()
        capture, when = Capture(None), 0.0
        for when, frame in read_frames(Path(file.name)):
            capture.feed(when, frame)
        capture.finish(when)


def _archive(data: bytes) -> None:
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "a").write_bytes(data)
        unpack(Path(folder) / "a", "tar", Path(folder) / "made", lambda _: None)


def _site(data: bytes) -> None:
    parse_site(data.decode("utf-8", "replace"), "daskel.toml")


def _template(data: bytes) -> None:
    render("{" + data.decode("utf-8", "replace"), {"client": {"name": "tide-01"}})


def _image(data: bytes) -> None:
    partitions.kind_of(data)
    partitions.overlapping(partitions.partitions(lambda at, count: data[at : at + count]))


def _tar() -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as archive:
        for name in ("a", "b/" + "c" * 120):
            member = tarfile.TarInfo(name)
            member.size = 3
            archive.addfile(member, io.BytesIO(b"abc"))
    return out.getvalue()


_CALLS = {
    nfs3.Procedure.GETATTR: pack_opaque(HANDLE),
    nfs3.Procedure.SETATTR: calls.serialise_setattr(HANDLE, NEW, 7),
    nfs3.Procedure.LOOKUP: calls.serialise_lookup(HANDLE, b"name"),
    nfs3.Procedure.READ: calls.serialise_read(HANDLE, 1, 2),
    nfs3.Procedure.WRITE: Write(HANDLE, 3, Stable.FILE_SYNC, b"data").serialise(),
    nfs3.Procedure.CREATE: calls.serialise_create(Make(HANDLE, b"n", FileType.REGULAR, NEW)),
    nfs3.Procedure.MKDIR: calls.serialise_mkdir(Make(HANDLE, b"n", FileType.DIRECTORY, NEW)),
    nfs3.Procedure.SYMLINK: calls.serialise_symlink(
        Make(HANDLE, b"n", FileType.LINK, NEW, text=b"t")
    ),
    nfs3.Procedure.RENAME: calls.serialise_rename(HANDLE, b"a", HANDLE, b"b"),
    nfs3.Procedure.LINK: calls.serialise_link(HANDLE, HANDLE, b"b"),
    nfs3.Procedure.READDIRPLUS: calls.serialise_readdirplus(HANDLE, 0, 4096),
}
_CAPTURES = [path.read_bytes() for path in sorted((_HERE / "core/capture").rglob("*.pcap*"))]
_DHCP6 = [
    b"\1\x11\x46\x0f" + bytes.fromhex("0001000e0001000131e240535254009900010003000c") + bytes(12)
    + bytes.fromhex("003d00020007"),
    b"\x0c\1" + bytes(32) + b"\0\x09\0\4\1\2\3\4",  # of a relay agent
]  # fmt: skip
_ELF = Path("/bin/true").read_bytes()[:20_000]
_BAD = (MalformedError,)
PARSERS: Mapping[str, Parser] = {
    "DHCP": Parser(_dhcp, _BAD, [
        *(serialise(discover(Face.of(f), "02:61:08:00:00:01", 1))[0] for f in Firmware),
        serialise(renewal(SYSTEM, "02:61:08:00:00:01", 1, parse(
            serialise(discover(SYSTEM, "02:61:08:00:00:01", 1))[0]).ciaddr))[0],
    ]),
    "part of DHCP": Parser(parse_part, _BAD, [
        serialise(discover(Face.of(Firmware.UEFI), "02:61:08:00:00:01", 1))[0][:250],
    ]),
    "DHCPv6": Parser(_dhcp6, _BAD, _DHCP6),
    "linked programs": Parser(_linked, (LinkError,), [elf("liba.so", interpreter="/ld.so.1")]),
    "TFTP": Parser(tftp.parse, _BAD, [
        tftp.Request(tftp.Opcode.READ, b"a/b", "octet", {"blksize": "1468"}).serialise(),
        tftp.Ack(7).serialise(), tftp.Error(tftp.ErrorCode.FULL, "x").serialise(),
        tftp.Options({"tsize": "1"}).serialise(), tftp.Data(1, b"abc").serialise(),
    ]),
    "RPC": Parser(_rpc, _BAD, [mark(serialise_call(1, 100003, 3, 1, pack_opaque(HANDLE)))]),
    "NFS arguments": Parser(_nfs, (MalformedError, NfsError), [
        bytes([list(_PROCEDURES).index(procedure)]) + arguments
        for procedure, arguments in _CALLS.items()
    ]),
    "MOUNT": Parser(lambda d: mount.parse_path(Reader(d, "path")), _BAD,
                    [mount.serialise_path("/roots/notebook")]),
    "port mapper": Parser(_portmap, _BAD, [b"\3" + bytes(16), b"\4"]),
    "paths": Parser(clean_path, (PathRefusedError,), [b"a/b", b"../x", b"a\\b", b"%2e%2e/"]),
    "what a system tells": Parser(up.parse, _BAD, [up.told(12.5, "quiet root=/dev/nfs")]),
    "what an initrd tells": Parser(partial(image_steps.parse, Who()), _BAD, [
        image_steps.told(ImageStep.FAILED, reason="memory", text="too small"),
    ]),
    "NBD": Parser(_nbd, _BAD, [
        b"\0\0\0\3IHAVEOPT\0\0\0\7\0\0\0\x09\0\0\0\3a@1\0\0"
        + nbd.serialise(nbd.Request(0, 0, 1, 0, 512)),
        b"\0\0\0\3IHAVEOPT\0\0\0\3\0\0\0\0",
    ]),
    "mounts of a machine": Parser(_mounts, (), [
        b"UUID=1 / ext4 defaults 0 1\n@@\n/dev/sda1 / ext4 rw 0 0\n@@\n/dev/sda1 9 5 4 50% /\n",
    ]),
    "captures": Parser(_capture, (ValueError,), _CAPTURES),
    "site file": Parser(_site, (), [DEMO.encode(), b"include = ['a']\n[site]\n[client.a]\nmac='x'"]),
    "templates": Parser(_template, (FillError,), [b"{ client.name }}", b"% if client %}x{% endif %}"]),
    "archives": Parser(_archive, (SourceError, MissingRequirementError), [_tar()]),
    "disk images": Parser(_image, (ValueError,), [bytes(446) + bytes(64) + b"\x55\xaa" + bytes(512)]),
    "initrds": Parser(initrd_names, (), [b"070701" + b"0" * 104 + b"TRAILER!!!\0"]),
    "programs": Parser(partial(inspect.elf_program, "/bin/true"), (), [_ELF]),
    "kernels": Parser(lambda d: (kernels.kernel_release(d), kernels.kernel_processor(d),
                                 kernels.initrd_kind(d)), (), [bytes(0x202) + b"HdrS" + bytes(60)]),
}  # fmt: skip


def try_out(parser: Parser, data: bytes) -> None:
    """Raises what the parser may not raise."""
    try:
        parser.read(data)
    except parser.raises:
        return
