"""What a client may change of a root, and which line says so."""

from __future__ import annotations

from dataclasses import replace

from daskel.core.site.key_types import SlateKind
from daskel.core.site.layers import Assigned, Effective, Sourced, effective
from daskel.core.site.model import Site
from daskel.core.site.own_kernels import boots
from daskel.core.site.remembered import remembered
from daskel.core.site.tables import Client


def slate_rule(site: Site, name: str, client: Client, root: str) -> Sourced[SlateKind]:
    """The client's own, else its strongest group's, else the root's; a fresh one for a client whose
    kept slate another server has."""
    groups = [(g, site.groups[g].slate) for g in reversed(client.group) if g in site.groups]
    said = [("client", name, client.slate), *(("group", g, kind) for g, kind in groups)]
    rules = site.roots.get(root)  # none where its table is wrong, which is said elsewhere
    found: Sourced[SlateKind]
    found = Sourced(rules.slate if rules else "none", site.origin("root", root, "slate"))
    for kind, table, value in said:
        if value is not None:
            found = Sourced(value, site.origin(kind, table, "slate"))
            break
    if found.value == "keep" and name in site.elsewhere:
        return Sourced("fresh", site.origin("site", "keep-elsewhere"))
    return found


def slate_of(site: Site, client: Client, root: str) -> SlateKind:
    """What a client may change of a root, without the line that says so."""
    name = site.by_mac.get(client.mac, "") if site.elsewhere else ""
    return slate_rule(site, name, client, root).value


def stays_on(site: Site, client: str, root: str, *, frozen: bool) -> bool:
    """Whether the client's slate of a root stays on the version that it was made on: it is kept, or
    something of it is frozen. Any other is made anew at every boot, on the version in use then, and
    so is that of a client whose kept slate another server has."""
    if root not in site.roots or client not in site.clients:
        return False
    if client in site.elsewhere:
        return False
    kind = slate_of(site, site.clients[client], root)
    return kind == "keep" or (kind == "fresh" and frozen)


@remembered
def keeps_slates(site: Site, name: str) -> bool:
    """Whether a client may boot a root of which it keeps a slate."""
    found = effective(site, name)
    roots = (site.loadouts[entry].root for entry in found.entries)
    return any(root and slate_of(site, found.client, root) == "keep" for root in roots)


def on_its_slate(site: Site, found: Effective, assigned: Assigned) -> Effective:
    """With the kernel of the version that a client's slate was made on, where that is another one
    than new clients get."""
    name, loadout = found.loadout_name or "", found.loadout
    if not assigned.slates or name not in site.own_kernels or loadout is None or not loadout.root:
        return found
    version = assigned.slates.get((loadout.root, found.name))
    if version is None or slate_of(site, found.client, loadout.root) == "none":
        return found
    made = site.published[loadout.root].of(version) if loadout.root in site.published else None
    if made is None:
        return found
    by_image = found.way != "files" or found.is_private
    update = boots(loadout.root, made, site, name, by_image=by_image)
    return replace(found, loadout=loadout.model_copy(update=update))
