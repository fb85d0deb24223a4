"""What a system needs of its root before anything else: its init, and what that is linked with."""

from __future__ import annotations

import io
from collections.abc import Iterator

from elftools.common.exceptions import ELFError
from elftools.elf.dynamic import DynamicSegment
from elftools.elf.elffile import ELFFile
from elftools.elf.segments import InterpSegment

from daskel.rehearse.fetch import BootError, NfsRoot

_INITS = ("/sbin/init", "/etc/init", "/bin/init", "/bin/sh")  # in the order of the kernel
_FOLDERS = ("/lib", "/usr/lib", "/lib64", "/usr/lib64", "/usr/local/lib")
_FIRST_LINE = 256  # bytes


def needed_files(root: NfsRoot, arguments: str) -> Iterator[tuple[str, bytes]]:
    """Path and content of init (`init=` of the kernel's arguments, or where it usually is), its
    interpreter, and all libraries that they are linked with. Raises BootError."""
    words = [w.partition("=")[2] for w in arguments.split() if w.startswith("init=")]
    candidates = words or _INITS
    path = next((path for path in candidates if root.resolve(path)), None)
    if path is None:
        none = f"none of {', '.join(candidates)}" if len(candidates) > 1 else f"no {candidates[0]}"
        raise BootError(f"the root has {none}")
    waiting, read = [path], {path}
    while waiting:
        path = waiting.pop(0)
        data = root.read(root.resolve(path) or b"")
        yield path.lstrip("/"), data
        for other in _wanted(root, path, data):
            if other not in read:
                read.add(other)
                waiting.append(other)


def _wanted(root: NfsRoot, path: str, data: bytes) -> Iterator[str]:
    """The paths of what one program is run by, and linked with."""
    if data.startswith(b"#!"):
        yield _there(root, path, data[2:_FIRST_LINE].split(b"\n")[0].split()[0].decode())
        return
    if not data.startswith(b"\x7fELF"):
        return
    try:
        elf = ELFFile(io.BytesIO(data))
        interpreters = [s.get_interp_name() for s in elf.iter_segments() if _is_interp(s)]
        dynamic = next((s for s in elf.iter_segments() if isinstance(s, DynamicSegment)), None)
        tags = [(t.entry.d_tag, t) for t in dynamic.iter_tags()] if dynamic else []
    except (ELFError, ValueError, KeyError) as error:
        raise BootError(f"{path} of the root cannot be run: {error}") from None
    for name in interpreters:
        yield _there(root, path, name)
    own = [t.runpath if tag == "DT_RUNPATH" else t.rpath for tag, t in tags if "PATH" in str(tag)]
    folders = [f for text in own for f in text.split(":")]
    origin = path.rpartition("/")[0]
    folders = [f.replace("$ORIGIN", origin).replace("${ORIGIN}", origin) for f in folders]
    for name in (t.needed for tag, t in tags if tag == "DT_NEEDED"):
        yield _library(root, path, name, folders)


def _is_interp(segment: object) -> bool:
    return isinstance(segment, InterpSegment)


def _there(root: NfsRoot, needs: str, path: str) -> str:
    if root.resolve(path) is None:
        raise BootError(f"{needs} of the root is run by {path}, which is not there")
    return path


def _library(root: NfsRoot, needs: str, name: str, folders: list[str]) -> str:
    if "/" in name:
        return _there(root, needs, name)
    for folder in (*folders, *_FOLDERS):
        if root.resolve(f"{folder}/{name}"):
            return f"{folder}/{name}"
    for folder in ("/lib", "/usr/lib"):  # one for each kind of processor
        for below in (n for n in root.names(folder) if "-linux-" in n):
            if root.resolve(f"{folder}/{below}/{name}"):
                return f"{folder}/{below}/{name}"
    raise BootError(
        f"{needs} of the root is linked with {name}, which is in no folder of libraries"
    )
