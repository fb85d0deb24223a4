"""Loadouts that boot the kernel of their root: which files they are then, and of which version."""

from __future__ import annotations

from dataclasses import replace

from daskel.core.site.model import Site
from daskel.core.site.published import CLIENT, FOLDER, INITRD, KERNEL, BootSet, Published, path_of


def of_path(site: Site, path: str | None) -> tuple[str, BootSet, str] | None:
    """The root, the boot set and the name of the file at a path; None for any other path."""
    parts = (path or "").split("/")
    if len(parts) < 4 or parts[0] != FOLDER:
        return None
    root, name, file = "/".join(parts[1:-2]), parts[-2], parts[-1]
    found = site.published.get(root)
    made = found.sets.get(name) if found else None
    return (root, made, file) if made and file in made.files else None


def with_published(site: Site, published: Published) -> Site:
    """The site with what is published: each loadout with a root and without a kernel boots with
    what the version has that clients get."""
    own = site.own_kernels | {
        name
        for name, loadout in site.loadouts.items()
        if loadout.root in site.roots and loadout.kernel is None and loadout.boot is None
    }
    loadouts = dict(site.loadouts)
    for name in own:
        root = loadouts[name].root or ""
        made = published[root].of(None) if root in published else None
        loadouts[name] = loadouts[name].model_copy(update=boots(root, made, site, name))
    return replace(site, published=published, own_kernels=frozenset(own), loadouts=loadouts)


def boots(
    root: str, made: BootSet | None, site: Site, loadout: str, *, by_image: bool = False
) -> dict[str, object]:
    """The kernel and initrds of a loadout that boots what a version has: its own, the one that
    mounts what its own does not (`by_image`: it does), and those that the loadout names itself."""
    more = tuple(p for p in site.loadouts[loadout].initrd if of_path(site, p) is None)
    if made is None or KERNEL not in made.files:
        return {"kernel": None, "initrd": more}
    wanted = (INITRD, CLIENT) if by_image or site.ipv4 else (INITRD,)  # none mounts one over IPv6
    own = [path_of(root, made.name, file) for file in wanted if file in made.files]
    return {"kernel": path_of(root, made.name, KERNEL), "initrd": (*own, *more)}
