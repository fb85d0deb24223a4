"""Text read from a picture of a text screen, by the font in the ROM of a card."""

from __future__ import annotations

import random

import pytest

from daskel.rehearse.screen import font, text

A = bytes.fromhex("000010386cc6c6fec6c6c6c600000000")
MADE = random.Random(61)
GLYPHS = {n: bytes(2) + MADE.randbytes(12) + bytes(2) for n in range(256)} | {65: A, 32: bytes(16)}
ROM = b"before" * 99 + b"".join(GLYPHS[n] for n in range(256)) + b"behind"
LINES = ["A machine", "", "daskel: waits", "", '  tide-01 (10.61.8.21)  "quiet"']


def picture(lines: list[str], cell: int) -> bytes:
    """Grey letters on blue, the second line the other way round."""
    rows = []
    for row in range(25):
        line = (lines[row] if row < len(lines) else "").ljust(80).encode("cp437")
        colours = (b"\0\0\x80", b"\xaa\xaa\xaa")[:: -1 if row == 1 else 1]
        for y in range(16):
            bits = "".join(f"{GLYPHS[letter][y]:08b}".ljust(cell, "0") for letter in line)
            rows.append(b"".join(colours[int(bit)] for bit in bits))
    return b"P6\n%d 400\n255\n" % (80 * cell) + b"".join(rows)


def no_memory() -> bytes:
    raise AssertionError("the picture tells it all")


def held(lines: list[str], before: int) -> bytes:
    """A card's memory with rows that were scrolled away before what is shown, and other rows behind."""
    rows = ["gone daskel waits A machine"] * before
    rows += [lines[row] if row < len(lines) else "" for row in range(25)]
    rows += ["older quiet A"] * 40
    letters = "".join(row.ljust(80) for row in rows).encode("cp437")
    return bytes(byte for letter in letters for byte in (letter, 7))


@pytest.mark.parametrize("before", [0, 7, 60])
@pytest.mark.parametrize("cell", [8, 9])
def test_another_font_is_read_by_the_memory(cell: int, before: int) -> None:
    letters = {bitmap[::-1]: letter for bitmap, letter in font(ROM).items()}  # of the ROM
    assert text(picture(LINES, cell), letters, lambda: held(LINES, before))[:6] == [*LINES, ""]


@pytest.mark.parametrize("cell", [8, 9])
def test_what_is_drawn_is_read(cell: int) -> None:
    lines = list(LINES)
    lines[1] = "the other way round"
    assert text(picture(lines, cell), font(ROM), no_memory)[:6] == [*lines, ""]


@pytest.mark.parametrize(
    "spoilt", [b"", b"P6\n720 400\n255\n", b"P6\n9 9\n255\n" + bytes(243), b"P5\n1 1\n255\n\0"]
)
def test_what_is_no_text_screen(spoilt: bytes) -> None:
    assert text(spoilt, font(ROM), no_memory) == []


def test_a_card_without_such_a_font() -> None:
    assert font(bytes(65536)) == font(ROM[:2000]) == {}
    assert text(picture(LINES, 9), {}, no_memory) == []
