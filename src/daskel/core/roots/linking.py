"""What a program is linked with, as the dynamic linker finds it (ld.so(8); musl's own): pure, over
whatever a tree is read from.

What is loaded already is taken by its name, wherever the one that wants it would have looked.
Where it cannot be known what a linker does, that is said, and nothing is called missing.
"""

from __future__ import annotations

import fnmatch
import io
import posixpath
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Protocol

from elftools.elf.dynamic import DynamicSegment
from elftools.elf.elffile import ELFFile
from elftools.elf.enums import ENUM_E_MACHINE
from elftools.elf.segments import InterpSegment

_GNU, _MUSL = re.compile(r"ld-linux|ld\.so\.1$|ld64\.so|/ld-[\d.]+\.so$"), re.compile(r"ld-musl-")
_SYSTEM = ("lib", "usr/lib", "lib64", "usr/lib64", "lib32", "usr/lib32", "libx32", "usr/libx32")
_MUSL_SYSTEM = ("lib", "usr/local/lib", "usr/lib")
_MUSL_ITSELF = re.compile(r"lib(c|pthread|rt|m|dl|util|xnet|crypt|resolv)\.(so|musl-.*)")
_CACHE = b"glibc-ld.so.cache1.1"
_BY_CACHE = "\0"  # instead of a folder: where the cache says
_MOST_OBJECTS, _MOST_SCRIPTS, _MOST_INCLUDES = 2000, 5, 64
_FIRST_LINE = 256  # bytes that Linux reads of a script


class Tree(Protocol):
    """A root filesystem, by paths that begin at its top."""

    def read(self, path: str) -> bytes | None:
        """A regular file's content, links followed; None when no such file exists."""

    def names(self, path: str) -> list[str]:
        """The names in a folder; an empty list when no such folder exists."""

    def real(self, path: str) -> str:
        """The path behind all links."""


class LinkError(Exception):
    """A program of a root cannot be run, and why."""


@dataclass(frozen=True, slots=True)
class Object:
    """What one ELF file says of itself and of what it needs."""

    path: str
    machine: int
    bits: int
    interpreter: str = ""
    soname: str = ""
    needed: tuple[str, ...] = ()
    rpath: tuple[str, ...] = ()
    runpath: tuple[str, ...] = ()


@dataclass
class Linked:
    """The files that a program needs to start, with their contents; `unsure`: what could not be
    known, for people."""

    files: dict[str, bytes] = field(default_factory=dict)
    unsure: list[str] = field(default_factory=list)
    program: Object | None = None  # what the kernel runs first, behind scripts


def linked(tree: Tree, path: str) -> Linked:
    """Everything that the program at `path` is run by and linked with. Raises LinkError."""
    result = Linked()
    for _ in range(_MOST_SCRIPTS):
        data = _file(tree, path)
        result.files[path] = data
        script = _interpreter_of_script(path, data)
        if script is None:
            break
        if tree.read(script) is None:
            raise LinkError(f"{path} of the root is run by {script}, which is not there")
        path = script
    else:
        raise LinkError(f"{path} of the root is a script, run by a script, and so on")
    program = read_object(path, data)
    if program is None:
        raise LinkError(f"{path} of the root is neither a program nor a script")
    result.program = program
    if program.interpreter:
        _Linking(tree, program, result).run()
    return result


def _file(tree: Tree, path: str) -> bytes:
    data = tree.read(path)
    if data is None:
        raise LinkError(f"the root has no {path}")
    return data


def _interpreter_of_script(path: str, data: bytes) -> str | None:
    if not data.startswith(b"#!"):
        return None
    words = data[2:_FIRST_LINE].split(b"\n")[0].split()
    if not words:
        raise LinkError(f"{path} of the root begins with #! and names no program")
    return words[0].decode("utf-8", "replace")


def read_object(path: str, data: bytes) -> Object | None:
    """None for what is not an ELF file. Raises LinkError for a damaged one."""
    if not data.startswith(b"\x7fELF"):
        return None
    try:
        elf = ELFFile(io.BytesIO(data))
        segments = list(elf.iter_segments())
        linker = next((s.get_interp_name() for s in segments if isinstance(s, InterpSegment)), "")
        dynamic = next((s for s in segments if isinstance(s, DynamicSegment)), None)
        tags = list(dynamic.iter_tags()) if dynamic else []
        return Object(
            path, int(ENUM_E_MACHINE.get(elf["e_machine"], elf["e_machine"])), elf.elfclass, linker,
            next((t.soname for t in tags if t.entry.d_tag == "DT_SONAME"), ""),
            tuple(t.needed for t in tags if t.entry.d_tag == "DT_NEEDED"),
            tuple(p for t in tags if t.entry.d_tag == "DT_RPATH" for p in t.rpath.split(":")),
            tuple(p for t in tags if t.entry.d_tag == "DT_RUNPATH" for p in t.runpath.split(":")),
        )  # fmt: skip
    except Exception as error:  # noqa: BLE001 - the library raises whatever damage leads to
        raise LinkError(f"{path} of the root cannot be run: {error or 'it is damaged'}") from None


class _Linking:
    """One program, and all that is loaded for it, in the order in which the linker loads it."""

    def __init__(self, tree: Tree, program: Object, result: Linked) -> None:
        self._tree, self._program, self._result = tree, program, result
        linker = program.interpreter
        self._musl = bool(_MUSL.search(linker))
        self._known = self._musl or bool(_GNU.search(linker))
        self._loaded: set[str] = {posixpath.basename(linker)}  # names that are there already
        self._above: dict[str, Object] = {}  # by path: what an object was loaded for
        self._folders: list[str] | None = None
        self._listed: dict[str, list[str]] = {}  # names in folders
        self._cached: dict[str, list[str]] | None = None

    def run(self) -> None:
        linker = self._program.interpreter
        data = self._tree.read(linker)
        if data is None:
            raise LinkError(
                f"{self._program.path} of the root is run by {linker}, which is not there"
            )
        self._result.files[linker] = data
        own = read_object(linker, data)
        if own and not _runs_together(own, self._program):
            raise LinkError(f"{linker} of the root is for another processor than the program")
        if own and own.soname:
            self._loaded.add(own.soname)
        waiting = [self._program]
        while waiting:
            needs = waiting.pop(0)
            for name in needs.needed:
                if name in self._loaded or (self._musl and _MUSL_ITSELF.fullmatch(name)):
                    continue
                found = self._find(needs, name)
                if found is None:
                    self._missing(needs, name)
                    continue
                self._loaded |= {name, found.soname} - {""}
                if found.path in self._above or len(self._above) > _MOST_OBJECTS:
                    continue
                self._above[found.path] = needs
                waiting.append(found)

    def _missing(self, needs: Object, name: str) -> None:
        said = f"{needs.path} of the root is linked with {name}, which is in no folder of libraries"
        if self._known:
            raise LinkError(said)
        self._result.unsure.append(
            f"{said} that is usual, and what {self._program.interpreter} looks through is not known"
        )

    def _find(self, needs: Object, name: str) -> Object | None:
        if "/" in name:
            return self._object(self._expanded(needs, name))
        for folder in self._search(needs):
            for path in self._in(folder, name):
                if (found := self._object(path)) is not None:
                    return found
        return None

    def _search(self, needs: Object) -> Iterator[str]:
        """The folders, in the linker's order."""
        if self._musl:  # either kind of path also holds for what the object loads
            for one in self._chain(needs):
                yield from (self._expanded(one, p) for p in (*one.rpath, *one.runpath))
            yield from self._musl_folders()
            return
        if not needs.runpath:
            for one in self._chain(needs):
                yield from (self._expanded(one, p) for p in one.rpath if not one.runpath)
        yield from (self._expanded(needs, p) for p in needs.runpath)
        yield from self._gnu_folders()

    def _chain(self, needs: Object) -> Iterator[Object]:
        """An object, what it was loaded for, and so on to the program."""
        while needs.path != self._program.path:
            yield needs
            needs = self._above.get(needs.path, self._program)
        yield self._program

    def _expanded(self, needs: Object, path: str) -> str:
        """RPATH's variables. An empty path is the folder that the program was started in: /."""
        of_program = needs.path == self._program.path  # which the kernel tells without links
        origin = posixpath.dirname(self._tree.real(needs.path) if of_program else needs.path)
        lib = "lib64" if self._program.bits == 64 else "lib"
        for name, value in (("ORIGIN", origin), ("LIB", lib), ("PLATFORM", "")):
            path = path.replace(f"${{{name}}}", value).replace(f"${name}", value)
        return posixpath.normpath(posixpath.join("/", path))

    def _in(self, folder: str, name: str) -> Iterator[str]:
        """Where a library may lie for a folder: below hardware's own folders first."""
        if folder == _BY_CACHE:
            yield from self._cache().get(name, [])
            return
        below = self._names(folder)
        if "glibc-hwcaps" in below:
            hardware = f"{folder}/glibc-hwcaps"
            yield from (f"{hardware}/{kind}/{name}" for kind in sorted(self._names(hardware))[::-1])
        if name in below:
            yield f"{folder}/{name}"

    def _names(self, folder: str) -> list[str]:
        if folder not in self._listed:
            self._listed[folder] = self._tree.names(folder)
        return self._listed[folder]

    def _object(self, path: str) -> Object | None:
        """A library for the program's processor; others are passed over."""
        data = self._tree.read(path)
        if data is None:
            return None
        try:
            found = read_object(path, data)
        except LinkError:
            return None
        if found is None or not _runs_together(found, self._program):
            return None
        self._result.files[path] = data
        return found

    def _gnu_folders(self) -> list[str]:
        """The cache, what it is made from, and the folders that are built in."""
        if self._folders is None:
            configured = list(dict.fromkeys(_configured(self._tree, "/etc/ld.so.conf", [])))
            system = [f"/{folder}" for folder in _SYSTEM]
            kinds = [
                f"{folder}/{name}"
                for folder in ("/lib", "/usr/lib") for name in self._names(folder)
                if re.search(r"-linux-|-linux$", name)
            ]  # fmt: skip
            self._folders = [_BY_CACHE, *configured, *kinds, *system]
        return self._folders

    def _musl_folders(self) -> list[str]:
        if self._folders is None:
            architecture = posixpath.basename(self._program.interpreter)
            architecture = architecture.removeprefix("ld-musl-").partition(".so")[0]
            told = self._tree.read(f"/etc/ld-musl-{architecture}.path")
            system = [f"/{folder}" for folder in _MUSL_SYSTEM]
            text = told.decode("utf-8", "replace") if told is not None else ""
            self._folders = [f for f in re.split(r"[:\n]+", text) if f.strip()] or system
        return self._folders

    def _cache(self) -> dict[str, list[str]]:
        if self._cached is None:
            self._cached = _cached(self._tree.read("/etc/ld.so.cache") or b"")
        return self._cached


def _runs_together(one: Object, other: Object) -> bool:
    return one.machine == other.machine and one.bits == other.bits


def _configured(tree: Tree, path: str, seen: list[str]) -> Iterator[str]:
    """The folders of /etc/ld.so.conf and of what it includes (ldconfig(8))."""
    data = tree.read(path)
    if data is None or path in seen or len(seen) >= _MOST_INCLUDES:
        return
    seen.append(path)
    for line in data.decode("utf-8", "replace").splitlines():
        words = line.partition("#")[0].split()
        if words[:1] == ["include"]:
            for pattern in words[1:]:
                whole = posixpath.join(posixpath.dirname(path), pattern)
                for place in _matching(tree, whole):
                    yield from _configured(tree, place, seen)
        elif words and words[0] != "hwcap":
            yield from (
                w.rstrip("/") for w in re.split(r"[:,\s]+", " ".join(words)) if w[:1] == "/"
            )


def _matching(tree: Tree, pattern: str) -> Iterable[str]:
    folder, _, last = pattern.rpartition("/")
    names = sorted(name for name in tree.names(folder) if fnmatch.fnmatchcase(name, last))
    return [f"{folder}/{name}" for name in names]


def _cached(data: bytes) -> dict[str, list[str]]:
    """Paths by name from /etc/ld.so.cache (glibc 2.2 and later; sysdeps/generic/dl-cache.h);
    nothing for what is damaged."""
    start = data.find(_CACHE)
    if start < 0:
        return {}
    found: dict[str, list[str]] = {}
    order = "big" if data[start + 28 : start + 29] == b"\3" else "little"

    def text(offset: int) -> str:
        end = data.find(b"\0", start + offset)
        return data[start + offset : end].decode("utf-8", "replace")

    count = int.from_bytes(data[start + 20 : start + 24], order)  # type: ignore[arg-type]
    for at in range(start + 48, min(start + 48 + count * 24, len(data) - 23), 24):
        key = int.from_bytes(data[at + 4 : at + 8], order)  # type: ignore[arg-type]
        value = int.from_bytes(data[at + 8 : at + 12], order)  # type: ignore[arg-type]
        found.setdefault(text(key), []).append(text(value))
    return found
