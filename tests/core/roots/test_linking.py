"""What a program is linked with: the rules of ld.so(8) as a table, and against this machine's own
linker."""

from __future__ import annotations

import os
import posixpath
import re
import subprocess
from dataclasses import dataclass
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.roots.linking import LinkError, linked
from tests.core.roots.elf_files import ARM64, elf

GNU, MUSL = "/lib64/ld-linux-x86-64.so.2", "/lib/ld-musl-x86_64.so.1"
LINKER = elf(soname="ld-linux-x86-64.so.2")
Files = dict[str, bytes | str]


@dataclass
class Tree:
    """A root made of a dictionary; a text is a symbolic link."""

    files: Files

    def read(self, path: str) -> bytes | None:
        found = self.files.get(self.real(path))
        return found if isinstance(found, bytes) else None

    def names(self, path: str) -> list[str]:
        folder = self.real(path).rstrip("/") + "/"
        inside = [p[len(folder) :] for p in self.files if p.startswith(folder)]
        return sorted({name.split("/")[0] for name in inside})

    def real(self, path: str) -> str:
        for _ in range(40):
            parts = path.strip("/").split("/")
            heads = ["/" + "/".join(parts[: n + 1]) for n in range(len(parts))]
            link = next((h for h in heads if isinstance(self.files.get(h), str)), None)
            if link is None:
                return posixpath.normpath(path)
            target = str(self.files[link])
            path = posixpath.join(posixpath.dirname(link), target) + path[len(link) :]
            path = posixpath.normpath(path)
        return path


def gnu(*needed: str, **more: str) -> bytes:
    return elf(*needed, interpreter=GNU, **more)  # type: ignore[arg-type]


BASE: Files = {GNU: LINKER, "/usr/lib/x86_64-linux-gnu/libc.so.6": elf(soname="libc.so.6")}
MERGED: Files = {"/lib": "usr/lib", "/lib64": "usr/lib64", "/sbin": "usr/sbin",
                 "/usr/lib64/ld-linux-x86-64.so.2": LINKER}  # fmt: skip
GOOD: list[tuple[str, Files, list[str]]] = [  # what, files beside /init, what must be found
    ("static", {"/init": elf(machine=62)}, []),
    ("usual folders", {**BASE, "/init": gnu("libc.so.6")}, ["libc.so.6"]),
    ("loaded already, by its soname, though only another's RUNPATH leads there", {
        **BASE, "/init": gnu("libcore.so", "libshared.so", runpath="/usr/lib/own"),
        "/usr/lib/own/libcore.so": elf("libshared.so", "libc.so.6"),
        "/usr/lib/own/libshared.so": elf(soname="libshared.so")}, ["libcore.so", "libshared.so"]),
    ("RPATH of the program holds for what it loads", {
        **BASE, "/init": gnu("liba.so", rpath="/opt/a"), "/opt/a/liba.so": elf("libb.so"),
        "/opt/a/libb.so": elf()}, ["liba.so", "libb.so"]),
    ("$ORIGIN", {**BASE, "/init": "opt/x/bin/init", "/opt/x/lib/liba.so": elf(),
                 "/opt/x/bin/init": gnu("liba.so", runpath="$ORIGIN/../lib")}, ["liba.so"]),
    ("a path with slashes", {**BASE, "/init": gnu("/opt/liba.so"), "/opt/liba.so": elf()},
     ["liba.so"]),
    ("ld.so.conf with includes", {
        **BASE, "/init": gnu("liba.so"), "/etc/ld.so.conf": b"include ld.so.conf.d/*.conf\n",
        "/etc/ld.so.conf.d/own.conf": b"# own\n/srv/lib /srv/more\n", "/srv/more/liba.so": elf()},
     ["liba.so"]),
    ("hardware's own folders", {
        **BASE, "/init": gnu("liba.so"),
        "/usr/lib/x86_64-linux-gnu/glibc-hwcaps/x86-64-v3/liba.so": elf()}, ["liba.so"]),
    ("one for another processor is passed over", {
        **BASE, "/init": gnu("liba.so", runpath="/one:/two"), "/one/liba.so": elf(machine=ARM64),
        "/two/liba.so": elf()}, ["/two/liba.so"]),
    ("merged /usr", {**MERGED, "/init": "sbin/real", "/usr/sbin/real": gnu("libc.so.6"),
                     "/usr/lib/x86_64-linux-gnu/libc.so.6": elf()}, ["libc.so.6"]),
    ("links that leave and come back", {
        **BASE, "/init": gnu("liba.so"), "/usr/lib/liba.so": "../../../opt/../opt/liba.so.1",
        "/opt/liba.so.1": elf()}, ["liba.so"]),
    ("a script of a script", {
        **BASE, "/init": b"#!/bin/wrapper -x\n", "/bin/wrapper": b"#! /bin/sh\n",
        "/bin/sh": gnu("libc.so.6")}, ["wrapper", "sh", "libc.so.6"]),
    ("musl, its own names and its path file", {
        MUSL: elf(soname="libc.musl-x86_64.so.1"), "/etc/ld-musl-x86_64.path": b"/srv/lib\n",
        "/init": elf("libc.musl-x86_64.so.1", "libpthread.so", "liba.so", interpreter=MUSL),
        "/srv/lib/liba.so": elf()}, ["liba.so"]),
    ("musl: RUNPATH holds for what is loaded", {
        MUSL: elf(), "/init": elf("liba.so", interpreter=MUSL, runpath="/opt"),
        "/opt/liba.so": elf("libb.so"), "/opt/libb.so": elf()}, ["liba.so", "libb.so"]),
]  # fmt: skip
BAD: list[tuple[str, Files, str]] = [
    ("a library", {**BASE, "/init": gnu("liba.so")}, "linked with liba.so"),
    ("RUNPATH does not hold for what is loaded", {
        **BASE, "/init": gnu("liba.so", runpath="/opt"), "/opt/liba.so": elf("libb.so"),
        "/opt/libb.so": elf()}, "/opt/liba.so of the root is linked with libb.so"),
    ("the interpreter", {"/init": gnu("libc.so.6")}, f"run by {GNU}, which is not there"),
    ("an interpreter for another processor", {"/init": gnu(), GNU: elf(machine=ARM64)},
     "another processor"),
    ("what a script is run by", {"/init": b"#!/bin/sh\n"}, "run by /bin/sh, which is not there"),
    ("scripts that run each other", {"/init": b"#!/init\n"}, "and so on"),
    ("no program", {"/init": b"nothing"}, "neither a program nor a script"),
    ("a damaged one", {"/init": elf("x", interpreter=GNU)[:70]}, "cannot be run"),
]  # fmt: skip


@pytest.mark.parametrize(("files", "wanted"), [g[1:] for g in GOOD], ids=[g[0] for g in GOOD])
def test_found(files: Files, wanted: list[str]) -> None:
    found = linked(Tree(files), "/init")
    assert not found.unsure
    for name in wanted:
        assert [path for path in found.files if path.endswith(name)], (name, list(found.files))


@pytest.mark.parametrize(("files", "words"), [b[1:] for b in BAD], ids=[b[0] for b in BAD])
def test_missing(files: Files, words: str) -> None:
    with pytest.raises(LinkError, match=re.escape(words)):
        linked(Tree(files), "/init")


def test_what_another_linker_does_is_not_known() -> None:
    files: Files = {"/init": elf("liba.so", interpreter="/store/ld.own"), "/store/ld.own": elf()}
    (said,) = linked(Tree(files), "/init").unsure
    assert "liba.so" in said and "/store/ld.own" in said


@given(st.binary(max_size=300), st.integers(0, 400))
def test_damaged_files_are_an_error_of_this_kind(data: bytes, at: int) -> None:
    whole = elf("liba.so", "libb.so", rpath="/x", interpreter=GNU)
    spoilt = whole[:at] + data + whole[at + len(data) :]
    try:
        linked(Tree({**BASE, "/init": spoilt, "/etc/ld.so.cache": data}), "/init")
    except LinkError as error:
        assert str(error)


class Here:
    """This machine's own tree."""

    def read(self, path: str) -> bytes | None:
        return Path(path).read_bytes() if Path(path).is_file() else None

    def names(self, path: str) -> list[str]:
        return os.listdir(path) if Path(path).is_dir() else []  # noqa: PTH208 - names alone

    def real(self, path: str) -> str:
        return str(Path(path).resolve())


@pytest.mark.parametrize("cache", [True, False])
def test_the_same_as_this_machines_linker(cache: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    """With its cache, and from the files that the cache is made from."""
    if not cache:
        read = Here.read
        monkeypatch.setattr(Here, "read", lambda s, p: None if p.endswith(".cache") else read(s, p))
    programs = [p for p in sorted(Path("/usr/bin").iterdir()) if p.is_file()][::9][:60]
    judged = 0
    for program in (p for p in programs if p.open("rb").read(4) == b"\x7fELF"):
        done = subprocess.run(["ldd", program], capture_output=True, text=True, check=False)
        names = set(re.findall(r"^\t(\S+) => /", done.stdout, re.MULTILINE))
        if done.returncode or not names:
            continue
        judged += 1
        found = {path.rpartition("/")[2] for path in linked(Here(), str(program)).files}
        assert names <= found, program
    assert judged > 10
