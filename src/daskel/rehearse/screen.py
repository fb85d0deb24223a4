"""The text on a picture of a VGA card's text mode, read by the font that is in its ROM.

Its memory alone does not tell: what a kernel scrolls away stays there, and only the card knows
where the screen begins.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

ROWS, COLUMNS = 25, 80
_HEIGHT, _WIDTH = 16, 8  # pixels of a letter; between two may be one more
_A = bytes.fromhex("000010386cc6c6fec6c6c6c600000000")  # as it is drawn
_LETTERS = 256


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


def text(picture: bytes, letters: dict[bytes, str]) -> list[str]:
    """The lines on a picture (PPM, binary); nothing when it is not of the text mode."""
    pixels = _pixels(picture)
    if pixels is None or not letters:
        return []
    height, width = pixels.shape
    if height != ROWS * _HEIGHT or width % COLUMNS:
        return []
    cells = pixels.reshape(ROWS, _HEIGHT, COLUMNS, width // COLUMNS).transpose(0, 2, 1, 3)
    drawn = cells[..., :_WIDTH] != cells[..., :1, :1]  # unlike the corner, which is background
    bitmaps = np.packbits(drawn, axis=3)[..., 0]
    lines = ["".join(letters.get(cell.tobytes(), " ") for cell in row) for row in bitmaps]
    return [line.rstrip() for line in lines]


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
