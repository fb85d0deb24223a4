"""Small files of JSON that must survive: written whole or not at all, and checked when read."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

from daskel.system.requirements import MissingRequirementError


def read_kept(path: Path, remedy: str) -> dict[str, Any] | None:
    """None when there is no such file. Raises MissingRequirementError when it is damaged: it never
    means something else."""
    try:
        found = json.loads(path.read_text())
    except FileNotFoundError:
        return None
    except PermissionError:
        raise
    except (OSError, ValueError, RecursionError) as error:
        why = "it is empty" if _is_empty(path) else error
        raise MissingRequirementError(f"{path} is damaged: {why}", remedy) from None
    if not isinstance(found, dict):
        raise MissingRequirementError(f"{path} is damaged: it holds no table", remedy)
    return found


def write_kept(path: Path, content: dict[str, Any]) -> None:
    """It is on the disk when this returns, with its name. Raises OSError."""
    part = path.with_name(f".{path.name}")
    with part.open("w") as file:
        json.dump(content, file, indent=1)
        file.flush()
        os.fsync(file.fileno())
    part.replace(path)
    sync_folder(path.parent)


def sync_folder(folder: Path) -> None:
    """The names in it are on the disk when this returns. Raises OSError."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def _is_empty(path: Path) -> bool:
    try:
        return path.stat().st_size == 0
    except OSError:
        return False
