"""Reads from a root's tree, and from what its loadouts hand out, what `inspect` judges."""

from __future__ import annotations

import stat
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from daskel.core.roots.accounts import NAMES, PASSWD, SHADOW, Account, login_accounts
from daskel.core.roots.inspect import (
    Facts,
    Handed,
    Program,
    elf_program,
)
from daskel.core.roots.kernels import HEAD, kernel_processor, kernel_release
from daskel.core.site.layers import deliveries
from daskel.core.site.model import Site
from daskel.core.site.own_kernels import of_path
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.fitting import switched_on, texts
from daskel.system.roots.initrds import initrd_names
from daskel.system.roots.inside import inside, listed
from daskel.system.roots.own_kernels import own_kernels, releases
from daskel.system.roots.packing import client_files
from daskel.system.roots.tree_copy import entries, forgets

SCREEN_UNIT = "daskel-screen.service"
_LARGEST_TEXT = 1 << 20  # bytes
_INITS = ("sbin/init", "etc/init", "bin/init", "bin/sh")
_LARGEST_PROGRAM = 64 << 20  # bytes


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
        _no_image(site, root, tree),
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
    by_files = loadout.root is None or "files" in deliveries(site, loadout.root)
    return Handed(name, place, release, processor, names, built_in, missing, by_files)


def _no_image(site: Site, root: str, tree: Path) -> tuple[str, str] | None:
    """Why a root cannot come as an image, where it is to."""
    if not deliveries(site, root) & {"blocks", "memory"}:
        return None
    try:
        client_files(tree)
    except MissingRequirementError as error:
        return error.problem, error.remedy
    return None


def _built_in(tree: Path, release: str) -> list[str] | None:
    """The modules that a kernel has in itself, as its list in the root says."""
    place = inside(tree, f"lib/modules/{release}/modules.builtin")
    try:
        return place.read_text(errors="replace").split() if place else None
    except OSError:
        return None
