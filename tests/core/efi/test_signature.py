"""Who signed an EFI program, and signing one: as another program judges it, and damaged."""

from __future__ import annotations

import os
import shutil
import struct
import subprocess
from itertools import pairwise
from pathlib import Path

import pytest
from cryptography.hazmat.primitives.serialization import Encoding
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.efi.pe import HEADS, hashed, parse
from daskel.core.efi.signature import Found, Signer, digest_of, look, signed
from daskel.core.efi.unified import LINE, Unified, room_for, unify
from daskel.core.reader import MalformedError
from tests.core.efi.programs import SBAT, program, signer

PLAIN = program((b".text", b"code" * 300), (b".sbat", SBAT))
SIGNED = signed(PLAIN, signer())
WITH_GAPS = program((b".text", b"code" * 300), (b".sbat", SBAT), gap=512)
KERNEL, INITRDS, COMMAND = b"kernel" * 1001, [b"first" * 77, b"second" * 800], "quiet splash"


def seen(image: bytes) -> Found:
    return look(len(image), lambda at, count: image[at : at + count])


def composed(whole: Unified, own: Signer | None, line: str = COMMAND) -> bytes:
    """As a server sends it."""
    table = len(own.table(bytes(32))) if own else 0
    image, found = whole.signed_head(table) if own else whole.head, whole.begin()
    for data, piece in zip([KERNEL, *INITRDS], whole.pieces, strict=True):
        found.update(data + bytes(piece.padding))
        image += data + bytes(piece.padding)
    found.update(whole.command_line(line))
    image += whole.command_line(line)
    return image + (own.table(found.digest()) if own else b"")


@pytest.mark.parametrize(
    ("image", "expected"),
    [
        (PLAIN, Found(sbat=True)),
        (program((b".text", b"code")), Found()),
        (SIGNED, Found(("Skerry boot",), sbat=True)),
        (signed(SIGNED, signer("Another")), Found(("Another",), sbat=True)),
        (signed(PLAIN + b"behind", signer()), Found(("Skerry boot",), sbat=True)),
        (signed(WITH_GAPS, signer()), Found(("Skerry boot",), sbat=True)),
        (SIGNED.replace(b"code", b"kode", 1), Found(("Skerry boot",), damaged=True, sbat=True)),
    ],
)
def test_who_signed_it(image: bytes, expected: Found) -> None:
    assert seen(image) == expected


def test_what_is_not_signed_may_change() -> None:
    """The checksum, and where the signature is, are not part of it; everything else is."""
    whole = parse(SIGNED[:HEADS])
    free = {*range(whole.checksum, whole.checksum + 4), *range(whole.security, whole.security + 8)}
    at = {n for begin, count in hashed(whole, len(SIGNED)) for n in range(begin, begin + count)}
    assert at == set(range(whole.certificates[0])) - free


def test_one_image_of_several_files() -> None:
    whole = unify(PLAIN, len(KERNEL), [len(one) for one in INITRDS], room_for(COMMAND))
    image = composed(whole, signer())
    sections = {one.name: one for one in parse(image[:HEADS]).sections}
    assert [*sections] == [".text", ".sbat", ".linux", ".initrd", ".cmdline"]

    def inside(name: str) -> bytes:
        one = sections[name]
        return image[one.offset : one.offset + one.size]

    assert inside(".linux") == KERNEL and inside(".text") == b"code" * 300
    first = INITRDS[0] + bytes(-len(INITRDS[0]) % 4)
    assert inside(".initrd") == first + INITRDS[1] + bytes(-len(INITRDS[1]) % 4)
    assert inside(".cmdline") == COMMAND.encode().ljust(LINE)
    places = sorted((one.address, one.address + one.size) for one in sections.values())
    assert all(end <= begin for (_, end), (begin, _) in pairwise(places))
    assert seen(image) == Found(("Skerry boot",), sbat=True)
    other = composed(whole, signer(), "debug")
    assert len(other) == len(image) and seen(other) == seen(image)
    assert digest_of(composed(whole, None)) == digest_of(image)


def test_long_command_lines_have_room() -> None:
    assert [room_for("x" * n) for n in (0, LINE, LINE + 1)] == [LINE, LINE, 2 * LINE]
    with pytest.raises(MalformedError, match="firmware takes"):
        unify(PLAIN, 1 << 31, [], LINE)
    with pytest.raises(MalformedError, match="gaps between"):
        unify(WITH_GAPS, 10, [], LINE)
    with pytest.raises(MalformedError, match="no room for"):
        unify(program(*[(b".x", b"x")] * 28), 10, [10], LINE)


@pytest.mark.skipif(
    not shutil.which("sbverify") and "CI" not in os.environ, reason="not installed: sbverify"
)
@pytest.mark.parametrize("what", ["program", "with gaps", "image"])
def test_another_program_accepts_it(tmp_path: Path, what: str) -> None:
    whole = unify(PLAIN, len(KERNEL), [len(one) for one in INITRDS], LINE)
    programs = {"program": SIGNED, "with gaps": signed(WITH_GAPS, signer())}
    image = programs.get(what) or composed(whole, signer())
    certificate = signer().certificate.public_bytes(Encoding.PEM)
    (tmp_path / "own.pem").write_bytes(certificate)
    for data, accepted in ((image, True), (image.replace(b"code", b"kode", 1), False)):
        (tmp_path / "image").write_bytes(data)
        words = ["sbverify", "--cert", tmp_path / "own.pem", tmp_path / "image"]
        done = subprocess.run(words, capture_output=True, text=True, check=False)
        assert (done.returncode == 0) is accepted, done


@pytest.mark.parametrize(
    "image",
    [
        b"", b"MZ", b"MZ" + bytes(200), PLAIN[:0x90], bytes(0x600),
        PLAIN.replace(b"PE\0\0", b"PE\0\1"),
        SIGNED[:-1500], SIGNED[: len(SIGNED) - 8],
    ],
)  # fmt: skip
def test_what_is_no_program(image: bytes) -> None:
    with pytest.raises(MalformedError):
        seen(image)


@given(at=st.integers(0, len(SIGNED) - 4), value=st.integers(0, (1 << 32) - 1))
def test_damage_never_does_harm(at: int, value: int) -> None:
    """Whatever stands there: it is read, or refused; and it is not taken for signed as it was."""
    data = bytearray(SIGNED)
    struct.pack_into("<I", data, at, value)
    try:
        found = seen(bytes(data))
    except MalformedError:
        return
    if bytes(data) != SIGNED and found == seen(SIGNED):
        assert digest_of(bytes(data)) == digest_of(SIGNED), "what is signed was not changed"


@given(st.binary(max_size=2000))
def test_any_bytes(data: bytes) -> None:
    for image in (
        data,
        PLAIN[:0x60] + data,
        SIGNED[: parse(SIGNED[:HEADS]).certificates[0]] + data,
    ):
        try:
            seen(image)
        except MalformedError:
            continue
