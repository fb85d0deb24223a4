"""Files opened below a folder, and nothing outside of it."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from daskel.system.host.confined_open import FilesFolder


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    files = tmp_path / "files"
    (files / "deep").mkdir(parents=True)
    (files / "kernel").write_bytes(b"k" * 1000)
    (tmp_path / "secret").write_text("not for clients")
    (files / "inside").symlink_to("kernel")
    (files / "deep" / "up").symlink_to("../kernel")
    (files / "outside").symlink_to("../secret")
    (files / "absolute").symlink_to(tmp_path / "secret")
    (files / "out").symlink_to("..")
    os.mkfifo(files / "fifo")
    return files


OPENED = [
    ("kernel", None),
    ("inside", None),
    ("deep/up", None),
    ("missing", FileNotFoundError),
    ("outside", OSError),
    ("absolute", OSError),
    ("out/secret", OSError),
    ("../secret", OSError),
    ("deep", IsADirectoryError),
    ("fifo", IsADirectoryError),
    ("x" * 300, OSError),
]


@pytest.mark.parametrize(("path", "error"), OPENED)
def test_nothing_outside_the_folder_is_opened(
    folder: Path, path: str, error: type[OSError] | None
) -> None:
    files = FilesFolder(folder)
    if error is None:
        descriptor, size = files.open(path)
        assert size == 1000 and os.read(descriptor, 10) == b"k" * 10
        os.close(descriptor)
    else:
        with pytest.raises(error):
            files.open(path)
    files.close()
