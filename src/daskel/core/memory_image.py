"""What goes into a machine's memory, in blocks: one image, or several with an address each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

MEMORY_END = 1 << 32  # behind the last address that the protocols can name


@dataclass(frozen=True, slots=True)
class Block:
    """`length` bytes from `offset` on of image number `image`, for the memory from `address` on."""

    image: int
    offset: int
    length: int
    address: int


@dataclass(frozen=True)
class MemoryImage:
    """`images`: the size in bytes and the address of each, in the order in which they are sent."""

    images: Sequence[tuple[int, int]]
    block: int  # bytes of an image in a message

    @property
    def blocks(self) -> int:
        """How many there are; the last of each image may be a short one."""
        return sum(-(-size // self.block) for size, _ in self.images)

    def at(self, number: int) -> Block:
        """Block `number`, from 0. Raises IndexError."""
        left = number
        for image, (size, address) in enumerate(self.images):
            count = -(-size // self.block)
            if left < count:
                offset = left * self.block
                return Block(image, offset, min(self.block, size - offset), address + offset)
            left -= count
        raise IndexError(f"block {number} of {self.blocks}")

    def before(self, number: int) -> int:
        """Bytes of the blocks before block `number`."""
        done = 0
        for size, _ in self.images:
            count = -(-size // self.block)
            done += min(size, max(number, 0) * self.block)
            number -= count
        return done
