"""Captures of real firmware and kernels: the cause follows from the packets alone. And captures that
are made here, cut short, or none at all."""

from __future__ import annotations

import io
from collections.abc import Iterator
from dataclasses import replace
from ipaddress import IPv4Address
from pathlib import Path

import dpkt
import pytest
from dpkt.ethernet import Ethernet
from dpkt.ip import IP
from dpkt.udp import UDP
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.capture.frames import Capture
from daskel.core.capture.split import Split
from daskel.core.dhcp.client_messages import SYSTEM, Face, discover, renewal, request
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import Packet, serialise
from daskel.core.dhcp.pxe import Firmware
from daskel.core.history.boots import Boot, End, fetches
from daskel.core.history.case import Blind, Case
from daskel.core.history.diagnosis import CANNOT_TELL, diagnose
from daskel.core.history.events import RawAsked, Seen, Stage, Up
from daskel.core.history.outcome import GOOD
from daskel.core.history.ways import furthest
from daskel.core.mop import messages as mop
from daskel.core.rpl import messages as rpl
from daskel.core.site.model import Site
from daskel.core.tftp.packet import Ack, Data, Error, Opcode, Options, Request
from daskel.service.recorder import PacketFiles
from daskel.system.captures import FILE_HEAD, packet_head, read_frames
from tests.core.capture.views import VIEWS

HERE = Path(__file__).parent
MAC = "02:61:08:00:00:01"
BIOS, UEFI = Face.of(Firmware.BIOS), Face.of(Firmware.UEFI)
OWN, SERVER, OTHER = (IPv4Address(f"10.61.8.{n}") for n in (21, 1, 250))
ALL, NOBODY = IPv4Address("255.255.255.255"), IPv4Address("0.0.0.0")
Frames = list[tuple[float, bytes]]
_LOADING = [Stage.ADDRESSED, Stage.LOADER, Stage.MENU, Stage.KERNEL, Stage.INITRD, Stage.RUNNING]


def cases_of(frames: Frames, site: Site | None = None) -> list[Case]:
    """The newest boot of each machine."""
    capture = Capture(site)
    for at, frame in frames:
        capture.feed(at, frame)
    newest = {case.boot.mac: case for case in capture.finish(frames[-1][0] if frames else 0.0)}
    return [furthest(case) for case in newest.values()]


def boots_of(frames: Frames, site: Site | None = None) -> list[Boot]:
    return [case.boot for case in cases_of(frames, site)]


def cause_of(frames: Frames, site: Site | None = None) -> list[str]:
    (case,) = cases_of(frames, site)
    return [cause.cause for cause in diagnose(case)]


ALL_CAPTURES = sorted(HERE.rglob("*.pcap"))
STILL = {  # what is rightly said of a part, and not of the whole: it went on with another file
    ("ipv6-pxe-grub-own-image", "until two thirds"): "tftp-blocked",
}


@pytest.mark.parametrize("view", VIEWS)
@pytest.mark.parametrize("path", ALL_CAPTURES, ids=lambda path: path.stem)
def test_what_others_would_have_captured(path: Path, view: str) -> None:
    """The same answer, or that it cannot be told; never a wrong cause, and no good news of what
    is not good."""
    whole = {case.who: (case, diagnose(case)) for case in cases_of(list(read_frames(path)))}
    for case in cases_of(VIEWS[view](list(read_frames(path)))):
        assert case.who in whole, "no machine that the whole capture has not"
        before, causes = whole[case.who]
        told = {cause.cause for cause in diagnose(case) if cause.stops}
        same = {cause.cause for cause in causes} | {CANNOT_TELL}
        same.add(STILL.get((path.stem, view), CANNOT_TELL))
        for precisely, less in (("loader-refused", "loader-stops"), ("raw-silent", "raw-ethernet")):
            same |= {less} if precisely in same else set()
        assert told <= same
        assert told or (case.result in GOOD and before.result in GOOD)


OTHERS = {  # of machines, servers and wires that were not set up for this
    "ipv6-pxe-grub-own-image": ("menu", CANNOT_TELL),
    "mop-vax-again": ("kernel", "loads-again"),
    "mop-vax-block-lost": ("seen", "raw-not-sent"),
    "mop-vax-byname": ("kernel", CANNOT_TELL),
    "mop-vax-console": ("seen", "raw-silent"),
    "mop-vax-eth8k": ("kernel", CANNOT_TELL),
    "mop-vax-other-framing": ("kernel", None),  # its ROM took what came in another framing
    "mop-vax-silent": ("seen", "raw-silent"),
    "mop-vax-too-large": ("seen", "raw-too-large"),
    "rpl-load-by-hand": ("kernel", "loads-again"),
    "secureboot-daskel-loader-refused": ("loader", "loader-refused"),
    "secureboot-shim-grub-kernel-tftp": ("kernel", CANNOT_TELL),
    "secureboot-unsigned-kernel-refused": ("menu", CANNOT_TELL),
    "bios-grub-request-sent-again": ("menu", "file-missing"),
    "uboot-arm64-e1000": ("addressed", "file-missing"),
    "uefi-private-tunnel": ("addressed", CANNOT_TELL),
    "uefi-http-name-server-grub-without-address": ("addressed", CANNOT_TELL),
    "uefi32-grub32-against-daskel": ("kernel", CANNOT_TELL),
}


@pytest.mark.parametrize("path", sorted(HERE.glob("others/*")), ids=lambda path: path.stem)
def test_captures_of_others(path: Path) -> None:
    """One machine each: when Daskel looks for other DHCP servers, that is not a machine."""
    (case,) = cases_of(list(read_frames(path)))
    causes = [cause.cause for cause in diagnose(case)]
    assert (case.stage.value, causes[0] if causes else None) == OTHERS[path.stem]


@pytest.mark.parametrize(
    ("left_out", "reason"),
    [((), "encrypted with 10.61.8.1"), ((2, 4), "10.61.8.1 does not answer the tunnel")],
)
def test_what_goes_on_in_a_tunnel(left_out: tuple[int, ...], reason: str) -> None:
    """A real machine's; then as it is where its key is not admitted."""
    frames = [
        (at, frame) for at, frame in read_frames(HERE / "others/uefi-private-tunnel.pcap")
        if not (frame[23] == 17 and frame[36:38] == frame[34:36] and frame[42] in left_out)
    ]  # fmt: skip
    (case,) = cases_of(frames)
    (cause,) = diagnose(case)
    assert cause.cause == CANNOT_TELL and reason in cause.problem, cause
    assert "daskel diagnose" in cause.remedy


def test_several_machines_at_once() -> None:
    """Their captures, laid over each other: each answer is as it was alone."""
    paths, merged = sorted(HERE.glob("*.pcap")), []
    for path in paths:
        frames = list(read_frames(path))
        merged += [(at - frames[0][0], data) for at, data in frames]
    merged.sort(key=lambda pair: pair[0])
    told = {case.who: diagnose(case)[0].cause for case in cases_of(merged)}
    assert sorted(told.values()) == [path.stem for path in paths]


def test_behind_a_relay_agent() -> None:
    """Taken at the server: every frame is the agent's, and the machine's own address is in none."""
    agent = IPv4Address("10.61.10.1")

    def relayed(message: Packet, source: IPv4Address) -> bytes:
        made = dhcp(replace(message, giaddr=agent), source)
        return made[:6] + bytes.fromhex("0261100000fe") + made[12:]

    acknowledged = reply(ASKED, 5, SERVER, b"loader.bin")
    frames = [relayed(ASKED, agent), relayed(OFFER, SERVER), relayed(request(BIOS, OFFER), agent),
              relayed(acknowledged, SERVER)]  # fmt: skip
    far = frame(*ENDS, WISH.serialise())
    routed = [ARP, MDNS, *frames, *[far[:6] + bytes.fromhex("0261100000fe") + far[12:]] * 5]
    (case,) = cases_of([(float(n), data) for n, data in enumerate(routed)])
    assert case.who == MAC and not case.blind.keys() & {Blind.TFTP, Blind.DHCP_ASKED}
    assert diagnose(case)[0].cause == "tftp-blocked"


def test_what_a_raw_request_asks_for() -> None:
    (case,) = cases_of(list(read_frames(HERE / "others/mop-vax-byname.pcap")))
    (cause,) = diagnose(case)
    assert "it ends 0 seconds after" in cause.problem
    (*_, (_, told)) = case.boot.of(RawAsked)
    assert (told.asked, told.loaded, told.by) == ('"TIDEBOARD-1"', True, "16:89:77:f0:d7:07")


ARP = bytes(Ethernet(src=OTHER.packed + b"ab", dst=b"\xff" * 6, type=0x0806, data=bytes(28)))
OLD, HOST = bytes.fromhex("026108000031"), bytes.fromhex("0261080000fe")
_LLC = b"\0\x09\xaa\xaa\x03"


def mop_frame(message: bytes, *, asks: bool) -> bytes:
    ends = (mop.LOAD_GROUP, OLD) if asks else (OLD, HOST)
    framing = mop.Framing.ETHERNET
    return mop.serialise_frame(mop.Frame(*ends, mop.Protocol.LOAD, framing, message))


def rpl_frame(message: bytes, *, asks: bool) -> bytes:
    return rpl.serialise_frame(*((HOST, OLD) if asks else (OLD, HOST)), message)


ASKS = mop_frame(mop.request_program("WWNG2"), asks=True)
FIND = rpl_frame(rpl.find(OLD, "TIDEBOARD"), asks=True)
FOUND = rpl_frame(rpl.found(rpl.Find(1, 1478, ""), OLD, HOST, 1478), asks=False)


def rpl_block(number: int, size: int = 1000, flags: int = 0) -> bytes:
    block = rpl.FileData(number, 0, 0, rpl.Flags(flags), bytes(size))
    return rpl_frame(rpl.file_data(block), asks=False)


def wants(number: int) -> bytes:
    return rpl_frame(rpl.send_file(OLD, number, "TIDEBOARD"), asks=True)


@pytest.mark.parametrize(
    ("frames", "cause"),
    [
        ([ASKS] * 5, "raw-ethernet"),  # answers may go where this is not captured
        ([ASKS] * 2, CANNOT_TELL),
        ([ASKS, OLD + HOST + b"\x08\x06" + bytes(46)] * 5, "raw-silent"),
        ([ASKS, OLD + HOST + b"\x60\x01\x03" + bytes(45)] * 5, "raw-framing"),  # without a length
        ([ASKS, OLD + HOST + _LLC + b"\0\0\0\x60\x01\x03" + bytes(37)] * 5, "raw-framing"),
        ([ASKS, OLD + HOST + _LLC + b"\x08\0\x2b\x60\x01\x03" + bytes(37)] * 5, "raw-framing"),
        ([ASKS, mop_frame(mop.volunteer(), asks=False)] * 5, CANNOT_TELL),
        ([FIND] * 5, "raw-ethernet"),
        ([FIND, FOUND, *[wants(0), rpl_block(0, 1460)] * 4], "raw-too-large"),
        ([FIND, FOUND, *[wants(0), rpl_block(0)] * 4], "not-acknowledged"),
        (
            [FIND, FOUND, wants(0), rpl_block(0), wants(1), rpl_block(1, 9, 0xC0), FIND],
            "loads-again",
        ),
        ([FIND, FOUND, wants(0), rpl_block(0, 9, 0xC0), *[ARP] * 20], None),
    ],
)
def test_what_became_of_raw_requests(frames: list[bytes], cause: str | None) -> None:
    found = cause_of([(7.0 * number, frame) for number, frame in enumerate([*frames, ARP])])
    assert (found[0] if found else None) == cause


def test_what_a_capture_can_show() -> None:
    capture = Capture()
    for at, data in VIEWS["filtered, cut to 96"](list(read_frames(HERE / "tftp-blocked.pcap"))):
        capture.feed(at, data)
    told = capture.scope.told(str)
    assert all(word in told for word in ("cut", "no TFTP data", "no NFS", "no ARP")), told


@pytest.mark.parametrize("path", sorted(HERE.glob("*.pcap")), ids=lambda path: path.stem)
def test_real_firmware_and_kernels(path: Path, demo_site: Site) -> None:
    frames = list(read_frames(path))
    assert cause_of(frames)[0] == cause_of(frames, demo_site)[0] == path.stem
    assert boots_of(frames, demo_site)[0].client == f"tide-{path.read_bytes()[24 + 16 + 11]:02}"


def test_what_the_client_told_of_itself_is_in_the_packets() -> None:
    (boot,) = boots_of(list(read_frames(HERE / "slate-full.pcap")))
    told: Up = boot.newest(Up)
    assert boot.stage is Stage.UP and told.kernel.startswith("6.1.")
    assert "hostname=tide-06" in told.arguments


def test_a_good_boot_over_http() -> None:
    """Firmware, boot loader and a kernel's NFS client; what is in files was left out."""
    (boot,) = boots_of(list(read_frames(HERE / "good/uefi-http.pcap")))
    assert boot.stage is Stage.ROOT and boot.root.startswith("catalogue")
    assert [s for s, _ in boot.stages if s in _LOADING] == _LOADING
    assert {(f.path, f.size) for f in fetches(boot) if f.end is End.SENT} == {
        ("loader/uefi-x64.efi", 634880),
        ("loader/02:61:08:00:00:03.cfg", 412),
        ("notebook/vmlinuz", 14186432),
        ("notebook/initrd.img", 5879924),
    }


# --- made here ---


def frame(source: tuple[IPv4Address, int], target: tuple[IPv4Address, int], data: bytes) -> bytes:
    own = source[0] in (OWN, NOBODY)
    mac = bytes.fromhex((MAC if own else "02:61:08:00:00:ff").replace(":", ""))
    udp = UDP(sport=source[1], dport=target[1], data=data, ulen=8 + len(data))
    ip = IP(src=source[0].packed, dst=target[0].packed, p=17, data=udp, len=28 + len(data))
    return bytes(Ethernet(src=mac, dst=b"\xff" * 6, type=0x0800, data=ip))


def dhcp(message: Packet, source: IPv4Address = NOBODY, port: int = 67) -> bytes:
    ports = (68, port) if message.op == 1 else (port, 68)
    return frame((source, ports[0]), (ALL, ports[1]), serialise(message)[0])


def reply(message: Packet, kind: int, server: IPv4Address, file: bytes = b"") -> Packet:
    options = {Code.MESSAGE_TYPE: bytes((kind,)), Code.SERVER_ID: server.packed}
    options |= {Code.BOOT_FILE: file} if file else {}
    return Packet(2, message.xid, message.chaddr, options, yiaddr=OWN, siaddr=server)


ASKED = discover(BIOS, MAC, 7)
OFFER = reply(ASKED, 2, SERVER, b"loader.bin")
ADDRESSED = [dhcp(ASKED), dhcp(OFFER, SERVER), dhcp(request(BIOS, OFFER)),
             dhcp(reply(ASKED, 5, SERVER, b"loader.bin"), SERVER)]  # fmt: skip
BARE = reply(ASKED, 2, OTHER)
NOWHERE_OFFER = replace(OFFER, siaddr=NOBODY)
ACKED = {**OFFER.options, Code.MESSAGE_TYPE: b"\5"}
HTTP_ASKED, UEFI_ASKED = discover(Face.of(Firmware.UEFI_HTTP), MAC, 8), discover(UEFI, MAC, 9)
HTTP_OFFER = reply(HTTP_ASKED, 2, SERVER, b"http://10.61.8.1/loader.efi")
CLASS_OFFER = reply(UEFI_ASKED, 2, SERVER, b"loader.efi")
CLASS_OFFER = replace(CLASS_OFFER, options={**CLASS_OFFER.options, Code.VENDOR_CLASS: b"PXEClient"})
MDNS = frame((OTHER, 5353), (IPv4Address("224.0.0.251"), 5353), bytes(20))
WISH = Request(Opcode.READ, b"loader.bin", "octet", {"blksize": "1432", "tsize": "0"})
ENDS = (OWN, 2070), (SERVER, 69)
FROM_SERVER = (SERVER, 40000), (OWN, 2070)
OACK = Options({"blksize": "1432", "tsize": "3000"})


def tftp(*parts: tuple[bool, object]) -> list[bytes]:
    """Packets of a transfer; each by the client or the server."""
    there, back = (OWN, 2070), (SERVER, 40000)
    return [
        frame(there, back, p.serialise()) if own else frame(back, there, p.serialise())  # type: ignore[attr-defined]
        for own, p in parts
    ]


LOADED = tftp((False, Options({"blksize": "1432"})), (True, Ack(0)), (False, Data(1, b"x")),
              (True, Ack(1)))  # fmt: skip
ITS = discover(SYSTEM, MAC, 77)  # of the system, whichever it is
SYSTEMS = [dhcp(ITS), dhcp(reply(ITS, 2, SERVER), SERVER), dhcp(request(SYSTEM, reply(ITS, 2, SERVER))),
           dhcp(reply(ITS, 5, SERVER), SERVER)]  # fmt: skip
MADE: list[tuple[str, list[bytes]]] = [
    ("dhcp-silent", [ARP, MDNS, *[dhcp(ASKED)] * 4]),
    ("cannot-tell", [dhcp(ASKED)] * 4),  # it may show one direction alone
    ("request-silent", [dhcp(ASKED), dhcp(OFFER, SERVER), *[dhcp(request(BIOS, OFFER))] * 3]),
    ("other-server", [dhcp(ASKED), dhcp(BARE, OTHER), dhcp(OFFER, SERVER), dhcp(request(BIOS, BARE)),
                      dhcp(reply(ASKED, 5, OTHER), OTHER)]),
    ("pxe-port-silent", [*ADDRESSED, *[
        frame((OWN, 4011), (SERVER, 4011), serialise(renewal(UEFI, MAC, 9, OWN))[0])] * 4]),
    ("boot-file-not-asked", [ARP, MDNS, *ADDRESSED]),
    ("cannot-tell", ADDRESSED),  # it may be without TFTP
    ("no-boot-file", [dhcp(ASKED), dhcp(BARE, OTHER), dhcp(request(BIOS, BARE)),
                      dhcp(reply(ASKED, 5, OTHER), OTHER)]),
    ("http-class-missing", [dhcp(HTTP_ASKED), dhcp(HTTP_OFFER, SERVER)] * 4),
    ("no-next-server", [dhcp(ASKED), dhcp(NOWHERE_OFFER, SERVER), dhcp(request(BIOS, OFFER)),
                        dhcp(replace(NOWHERE_OFFER, options=ACKED), SERVER)]),
    ("pxe-port-silent", [dhcp(UEFI_ASKED), dhcp(CLASS_OFFER, SERVER)] * 4),
    ("offer-not-taken", [dhcp(ASKED), dhcp(OFFER, SERVER)] * 4),
    ("size-untold", [*ADDRESSED, frame(*ENDS, WISH.serialise()), *tftp((False, Options(
        {"blksize": "1432"})), (True, Error(8, "no size")))]),
    ("tftp-blocked", [*ADDRESSED, *[frame(*ENDS, WISH.serialise())] * 5]),
    ("file-missing", [*ADDRESSED, frame(*ENDS, WISH.serialise()),
                      *tftp((False, Error(1, "no such file")))]),
    ("cannot-tell", [ARP, MDNS, *ADDRESSED, frame(*ENDS, WISH.serialise()), *LOADED, *SYSTEMS]),
    ("loader-stops", [ARP, MDNS, *ADDRESSED, frame(*ENDS, WISH.serialise()), *LOADED]),
    ("size-only", [*ADDRESSED, frame(*ENDS, WISH.serialise()), *tftp((False, OACK),
                   (True, Error(8, "User aborted")))]),
    ("too-large", [*ADDRESSED, frame(*ENDS, WISH.serialise()), *tftp((False, OACK),
                   (False, Data(1, bytes(1432))), (True, Error(3, "Disk full")))]),
]  # fmt: skip


@pytest.mark.parametrize(("cause", "packets"), MADE, ids=[cause for cause, _ in MADE])
def test_packets_that_show_a_cause(cause: str, packets: list[bytes]) -> None:
    """Long before the capture's end."""
    frames = [(float(n), packet) for n, packet in enumerate(packets)]
    end = dhcp(discover(BIOS, "02:61:08:00:00:77", 1))
    newest = {case.who: diagnose(case) for case in cases_of([*frames, (900.0, end)])}
    assert newest[MAC][0].cause == cause


def test_formats_and_kinds_of_links(tmp_path: Path) -> None:
    """pcap and pcapng; frames of Ethernet, of any interface (two versions), and without a head."""
    packets = [dhcp(ASKED)] * 3
    heads = {
        dpkt.pcap.DLT_EN10MB: lambda p: p,
        dpkt.pcap.DLT_LINUX_SLL: lambda p: bytes(6) + p[6:12] + bytes(2) + p[12:],
        276: lambda p: p[12:14] + bytes(10) + p[6:12] + bytes(2) + p[14:],
        101: lambda p: p[14:],
    }
    for number, made in ((n, w) for n in heads for w in (dpkt.pcap.Writer, dpkt.pcapng.Writer)):
        path = tmp_path / "made"
        with path.open("wb") as file:
            writer = made(file, linktype=number)
            for at, packet in enumerate(packets):
                writer.writepkt(heads[number](packet), float(at))
        (boot,) = boots_of(list(read_frames(path)))
        assert boot.mac == MAC and boot.firmware == "x86 BIOS", (number, made)
        assert len(list(boot.of(Seen))) == 3


def test_a_capture_that_is_cut_short(tmp_path: Path) -> None:
    whole = (HERE / "tftp-blocked.pcap").read_bytes()
    for length in range(0, len(whole), 37):
        path = tmp_path / "cut"
        path.write_bytes(whole[:length])
        try:
            boots_of(list(read_frames(path)))
        except ValueError as error:
            assert str(error)


def real_frames() -> Iterator[bytes]:
    for path in HERE.rglob("*.pcap"):
        yield from [data for _, data in read_frames(path)][:80]


REAL = list(real_frames())


@given(
    st.lists(
        st.tuples(st.sampled_from(REAL), st.integers(0, 400), st.integers(0, 255)), max_size=30
    )
)
def test_frames_that_are_spoilt_or_cut_are_no_fault(parts: list[tuple[bytes, int, int]]) -> None:
    frames: Frames = []
    for number, (data, at, byte) in enumerate(parts):
        spoilt = bytearray(data)
        spoilt[at % len(spoilt)] = byte
        frames += [(float(number), bytes(spoilt)), (float(number), bytes(spoilt[:at]))]
    boots_of(frames)
    split = Split()
    for at, frame in frames:
        split.feed(at, frame)


# --- what is recorded ---


def test_each_boot_has_its_packets() -> None:
    """A boot begins with a DISCOVER of firmware, unless it repeats one that got nowhere."""
    split = Split()
    frames = [*[dhcp(ASKED)] * 2, *ADDRESSED, frame(*ENDS, WISH.serialise()), *ADDRESSED]
    kept = [split.feed(float(n), data) for n, data in enumerate(frames)]
    assert [k.began for k in kept if k] == [0.0] * 7 + [7.0] * 4
    assert {k.mac for k in kept if k} == {MAC}
    assert split.feed(1000.0, frame(*ENDS, WISH.serialise())) is None, "long after its beginning"


def test_what_is_sent_is_kept_in_part() -> None:
    split = Split()
    for number, data in enumerate(ADDRESSED):
        split.feed(float(number), data)
    (block,) = tftp((False, Data(1, bytes(1432))))
    kept = split.feed(5.0, block)
    assert kept and kept.data == block[:384]
    for _ in range((16 << 20) // 384):
        later = split.feed(6.0, block)
    assert later and later.data == block[:128], "of a long boot, less"
    head = packet_head(5.5, len(kept.data), len(block))
    file = dpkt.pcap.Reader(io.BytesIO(FILE_HEAD + head + kept.data))
    assert list(file) == [(5.5, kept.data)] and file.datalink() == dpkt.pcap.DLT_EN10MB


def test_a_recording_says_how_long_nothing_came(tmp_path: Path) -> None:
    """Its last packet is the machine's own: the marks after it tell that the wait was in vain."""
    whole = list(read_frames(HERE / "good/bios.pcap"))
    began = whole[0][0]
    before = [(at, frame) for at, frame in whole if at < began + 22]  # its initrd is there
    files = PacketFiles(tmp_path, {})
    for at, frame in before:
        files.write(MAC, began, at, len(frame), frame)
    causes = []
    for later in (0.0, 100.0, 181.0, 3600.0):
        files.flush(before[-1][0] + later)
        (recorded,) = tmp_path.iterdir()
        frames = list(read_frames(recorded))
        assert sum(not frame for _, frame in frames) == min(len(causes), 2), "one for each silence"
        (case,) = cases_of(frames)
        causes.append(diagnose(case)[0].cause)
    assert causes == [CANNOT_TELL, CANNOT_TELL, "kernel-silent", "kernel-silent"]
