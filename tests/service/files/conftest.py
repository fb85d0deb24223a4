"""What tests of files on their way share."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import pytest

from daskel.core.history.events import FileKind
from daskel.service.files.opened import Opened


@pytest.fixture
def opened(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Opened]:
    """An open file with the test file's CONTENT."""
    content: bytes = request.module.CONTENT
    (tmp_path / "file").write_bytes(content)
    descriptor = os.open(tmp_path / "file", os.O_RDONLY)
    yield Opened("file", FileKind.OTHER, len(content), descriptor=descriptor)
    os.close(descriptor)
