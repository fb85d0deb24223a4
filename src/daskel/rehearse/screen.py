"""The text on a picture of a VGA card's text mode, read by the font that is in its ROM; where a
system has loaded another font, by the card's memory.

The memory alone does not tell: what a kernel scrolls away stays there, and only the card knows
where the screen begins. The picture shows that: equal letters look equal.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
import numpy.typing as npt

ROWS, COLUMNS = 25, 80
_HEIGHT, _WIDTH = 16, 8  # pixels of a letter; between two may be one more
_A = bytes.fromhex("000010386cc6c6fec6c6c6c600000000")  # as it is drawn
_LETTERS = 256
_MOST_ODD = 4  # letters that look otherwise than their equals: a cursor, two blanks


def font(rom: bytes) -> dict[bytes, str]:
    """Letters by their bitmaps, from a card's ROM; nothing when there is no such font in it."""
    start = rom.find(_A) - ord("A") * _HEIGHT
    if start < 0 or len(rom) < start + _LETTERS * _HEIGHT:
        return {}
    found: dict[bytes, str] = {bytes(_HEIGHT): " "}
    for number in range(32, _LETTERS):
        bitmap = rom[start + number * _HEIGHT : start + (number + 1) * _HEIGHT]
        found.setdefault(bitmap, bytes((number,)).decode("cp437"))
    return found


def text(picture: bytes, letters: Mapping[bytes, str], memory: Callable[[], bytes]) -> list[str]:
    """The lines on a picture (PPM, binary); nothing when it is not of the text mode. `memory`: of
    the card, from where its text begins; two bytes for each letter."""
    bitmaps = _bitmaps(picture)
    if bitmaps is None or not letters:
        return []
    known = [[letters.get(cell.tobytes()) for cell in row] for row in bitmaps]
    unknown = sum(letter is None for row in known for letter in row)
    inked = sum(letter != " " for row in known for letter in row)
    if unknown > inked / 5:
        return _by_memory(bitmaps, memory())
    return ["".join(letter or " " for letter in row).rstrip() for row in known]


def _by_memory(bitmaps: npt.NDArray[np.uint8], memory: bytes) -> list[str]:
    """The part of the memory whose equal letters look equal, as far as there is one."""
    shapes = bitmaps.reshape(-1, _HEIGHT).copy().view(f"V{_HEIGHT}").ravel()
    looks = np.unique(shapes, return_inverse=True)[1].astype(np.int64)
    held = np.frombuffer(memory, np.uint8)[::2]
    best, least, most = None, _MOST_ODD + 1, 0
    for start in range(0, held.size - ROWS * COLUMNS + 1, COLUMNS):
        here = held[start : start + ROWS * COLUMNS].astype(np.int64)
        different = np.unique(here).size
        odd = np.unique(here * _LETTERS * _LETTERS + looks).size - different
        if (odd, -different) < (least, -most):
            best, least, most = here, odd, different
    if best is None:
        return []
    lines = best.astype(np.uint8).reshape(ROWS, COLUMNS)
    return [line.tobytes().replace(b"\0", b" ").decode("cp437").rstrip() for line in lines]


def _bitmaps(picture: bytes) -> npt.NDArray[np.uint8] | None:
    """16 bytes for each letter's place, by row and column."""
    pixels = _pixels(picture)
    if pixels is None:
        return None
    height, width = pixels.shape
    if height != ROWS * _HEIGHT or width % COLUMNS:
        return None
    cells = pixels.reshape(ROWS, _HEIGHT, COLUMNS, width // COLUMNS).transpose(0, 2, 1, 3)
    drawn = cells[..., :_WIDTH] != cells[..., :1, :1]  # unlike the corner, which is background
    return np.packbits(drawn, axis=3)[..., 0]


def _pixels(picture: bytes) -> npt.NDArray[np.uint32] | None:
    """One number for each pixel."""
    parts = picture.split(maxsplit=4)[:4] if picture.startswith(b"P6") else []
    if len(parts) < 4 or parts[3] != b"255":
        return None
    width, height = int(parts[1]), int(parts[2])
    colours = np.frombuffer(picture[-width * height * 3 :], np.uint8)
    if colours.size != width * height * 3:
        return None
    each = colours.reshape(height, width, 3).astype(np.uint32)
    return (each[..., 0] << 16 | each[..., 1] << 8 | each[..., 2]).astype(np.uint32)
