"""Reads from a root's tree, and from what its loadouts hand out, what `inspect` judges."""

from __future__ import annotations

import gzip
import lzma
import shutil
import stat
import subprocess
import zlib
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from daskel.core.roots.accounts import NAMES, PASSWD, SHADOW, Account, login_accounts
from daskel.core.roots.inspect import (
    Facts,
    Handed,
    Program,
    cpio_names,
    elf_program,
)
from daskel.core.roots.kernels import HEAD, kernel_processor, kernel_release
from daskel.core.roots.magic import compression
from daskel.core.site.model import Site
from daskel.core.site.own_kernels import of_path
from daskel.system.roots.fitting import switched_on, texts
from daskel.system.roots.inside import inside, listed
from daskel.system.roots.own_kernels import own_kernels, releases
from daskel.system.roots.tree_copy import entries, forgets

SCREEN_UNIT = "daskel-screen.service"
_LARGEST_TEXT = 1 << 20  # bytes
_INITS = ("sbin/init", "etc/init", "bin/init", "bin/sh")
_LARGEST_PROGRAM = 64 << 20  # bytes
_LARGEST = 512 << 20  # bytes of an initrd, unpacked


def read_facts(site: Site, root: str, tree: Path, files: Path) -> Facts:
    """What `inspect` judges, read from a root's tree and from `files`."""
    init = next((p for path in _INITS[:3] if (p := _program(tree, path))), None)
    modules = releases(tree)
    own = site.roots[root].own if site.roots[root].slate != "none" else {}
    found = {path: text for path, text in texts(tree).items() if path not in own}
    units = switched_on(tree)
    out = forgets(site.roots[root].forget)
    unique = sum(out(p) for p, s in entries(tree) if s.st_size and not stat.S_ISDIR(s.st_mode))
    linker = inside(tree, init.interpreter) if init and init.interpreter else tree
    return Facts(
        str(tree), init, linker is not None and linker.exists(), modules, found, units, unique,
        list(_handed(site, root, tree, files)), accounts_of(tree), shows_a_program(tree),
    )  # fmt: skip


def accounts_of(tree: Path) -> list[Account] | None:
    """Who can log in to the system in a tree; None where its files do not tell."""
    read = ((path, _text(tree, path)) for path in (PASSWD, SHADOW, NAMES))
    texts = {path: text for path, text in read if text is not None}
    fields = [line.split(":") for line in texts.get(PASSWD, "").splitlines()]
    homes = {words[0]: words[5] for words in fields if len(words) > 6}
    server = any(inside(tree, path) for path in ("usr/sbin/sshd", "usr/sbin/dropbear"))
    keys = {
        n for n, home in homes.items() if server and _text(tree, f"{home}/.ssh/authorized_keys")
    }
    units = [
        text
        for folder in listed(tree, "etc/systemd/system")
        if "getty@" in folder.name and folder.is_dir()
        for path in listed(tree, f"etc/systemd/system/{folder.name}")
        if (text := _text(tree, str(path.relative_to(tree))))
    ]
    return login_accounts(texts, keys, units)


def shows_a_program(tree: Path) -> bool:
    """Whether its screen belongs to one program."""
    wanted = listed(tree, "etc/systemd/system/graphical.target.wants")
    return any(path.name == SCREEN_UNIT for path in wanted)


def _text(tree: Path, path: str) -> str | None:
    place = inside(tree, path)
    if place is None or not place.is_file():
        return None
    with suppress(OSError), place.open("rb") as file:
        return file.read(_LARGEST_TEXT).decode("utf-8", "replace")
    return None


def _program(tree: Path, path: str) -> Program | None:
    place = inside(tree, path)
    if place is None or not place.is_file():
        return None
    with place.open("rb") as file:
        return elf_program(f"/{path}", file.read(_LARGEST_PROGRAM))


def _handed(site: Site, root: str, tree: Path, files: Path) -> Iterator[Handed]:
    """Of every loadout with this root."""
    for name, loadout in site.loadouts.items():
        if loadout.root == root and (loadout.kernel or name in site.own_kernels):
            yield handed(site, name, tree, files)


def handed(site: Site, name: str, tree: Path, files: Path) -> Handed:
    """What a loadout hands out with the root in `tree`."""
    loadout, kernel, own = site.loadouts[name], b"", name in site.own_kernels
    chosen = next(iter(own_kernels(tree)), None) if own else None
    initrds = [files / path for path in loadout.initrd if of_path(site, path) is None]
    if chosen and chosen.initrd:
        initrds.insert(0, chosen.initrd)
    with suppress(OSError):
        kernel = (chosen.file if chosen else files / (loadout.kernel or "")).read_bytes()
    names: list[str] | None = None
    for path in initrds:
        with suppress(OSError):
            found = initrd_names(path.read_bytes())
            names = None if found is None else (names or []) + found
    release, processor = kernel_release(kernel), kernel_processor(kernel[:HEAD])
    built_in = _built_in(tree, release) if release else None
    place, missing = site.origin("loadout", name, "kernel"), own and chosen is None
    return Handed(name, place, release, processor, names, built_in, missing)


def _built_in(tree: Path, release: str) -> list[str] | None:
    """The modules that a kernel has in itself, as its list in the root says."""
    place = inside(tree, f"lib/modules/{release}/modules.builtin")
    try:
        return place.read_text(errors="replace").split() if place else None
    except OSError:
        return None


def initrd_names(data: bytes) -> list[str] | None:
    """The names in an initrd; None when it is packed in a way that cannot be read here."""
    try:
        names, end = cpio_names(data)
        rest = data[end:]
        if not rest.strip(b"\0"):
            return names
        plain = _unpacked(rest)
        return None if plain is None else names + cpio_names(plain)[0]
    except ValueError:  # begins like an archive, and is not one
        return None


def _unpacked(data: bytes) -> bytes | None:
    packed = compression(data)
    try:
        if packed == "gzip":
            return gzip.decompress(data)
        if packed in ("xz", "lzma"):
            return lzma.decompress(data)
    except (OSError, EOFError, zlib.error, lzma.LZMAError):
        return None
    if packed not in ("zstd", "lz4") or not shutil.which(packed):
        return None
    done = subprocess.run([packed, "-dc"], input=data, capture_output=True, check=False)
    return done.stdout[:_LARGEST] if done.returncode == 0 else None
