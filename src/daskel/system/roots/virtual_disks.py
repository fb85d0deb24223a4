"""Disks of virtual machines (qcow2, VMDK, VDI, VHDX), turned into plain images by qemu-img."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.new_tree import SourceError
from daskel.system.roots.tree_copy import Progress, need_room

_PERCENT = re.compile(rb"\((\d+(?:\.\d+)?)/100%\)")
_WHOLE = "check that the image is whole: qemu-img check"


@contextmanager
def plain(source: Path, kind: str, place: Path, progress: Progress) -> Iterator[Path]:
    """The disk as a plain image, sparse, at `place`; gone afterwards. Raises SourceError,
    MissingRequirementError. `progress` counts the bytes of the source."""
    if not shutil.which("qemu-img"):
        problem = f"reading a {kind} image needs qemu-img"
        raise MissingRequirementError(problem, "apt install qemu-utils")
    told = _told(source, kind)
    _stands_alone(source, told)
    need_room(place.parent, int(told.get("actual-size", 0)))
    try:
        _convert(source, kind, place, progress)
        yield place
    finally:
        place.unlink(missing_ok=True)


def _told(source: Path, kind: str) -> dict[str, Any]:
    """What the image says of itself. Nothing that it names is opened."""
    command = ["qemu-img", "info", "-f", kind, "--output=json", str(source)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        raise SourceError(f"{source} cannot be read: {_reason(done.stderr)}", _WHOLE)
    found = json.loads(done.stdout)
    return found if isinstance(found, dict) else {}


def _stands_alone(source: Path, told: dict[str, Any]) -> None:
    """An image may name other files as parts of it: any file of this machine. Raises
    SourceError."""
    data = (told.get("format-specific") or {}).get("data") or {}
    others = [told.get("backing-filename"), data.get("data-file"), data.get("data-file-raw")]
    others = [other for other in others if isinstance(other, str)]
    if others:
        problem = f"{source} is only what was changed on top of {others[0]}"
        remedy = f"make one image of both: qemu-img convert -O qcow2 {source.name} whole.qcow2"
        raise SourceError(problem, remedy)
    for part in data.get("extents") or []:
        place = Path(str(part.get("filename", "")))
        here = source.parent.resolve()
        if place.resolve().parent != here or place.is_symlink():
            problem = f"{source} names {place} as a part of it, which lies elsewhere"
            raise SourceError(problem, "put all parts of the image into one folder")


def _convert(source: Path, kind: str, place: Path, progress: Progress) -> None:
    command = ["qemu-img", "convert", "-p", "-f", kind, "-O", "raw", str(source), str(place)]
    size, done, said = source.stat().st_size, 0, b""
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT) as process:
        assert process.stdout
        while piece := os.read(process.stdout.fileno(), 1 << 12):
            said = (said + piece)[-2000:]
            if found := _PERCENT.findall(piece):
                now = int(float(found[-1]) * size / 100)
                progress(max(0, now - done))
                done = max(done, now)
    if process.returncode:
        words = _PERCENT.sub(b"", said).decode(errors="replace")
        raise SourceError(f"{source} cannot be read: {_reason(words)}", _WHOLE)


def _reason(said: str) -> str:
    return " ".join(said.split())[-200:] or "qemu-img does not say why"
