"""Files that boot loaders ask for without needing them."""

from __future__ import annotations

import pytest

from daskel.core.history.misses import harmless

MISSES = [  # as GRUB 2.06 asked, in its order
    ("/grub/grub.cfg-00000000-0000-0000-0000-000000000000", True),
    ("/grub/grub.cfg-01-02-61-08-00-00-05", True),
    ("/grub/grub.cfg-0A3D088D", True),
    ("/grub/grub.cfg-0", True),
    ("/grub/i386-pc/command.lst", True),
    ("/grub/grub.cfg", False),
    ("/grub/i386-pc/normal.mod", False),
    ("grub.cfg-old", False),
    ("notebook/vmlinuz", False),
]


@pytest.mark.parametrize(("path", "expected"), MISSES)
def test_what_is_asked_for_without_need(path: str, expected: bool) -> None:
    assert bool(harmless(path)) is expected
