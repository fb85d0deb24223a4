"""Private roots: what keeps them from coming, or from being private, before a client sees it; and
what a place for keys protects from."""

from __future__ import annotations

from collections.abc import Iterator

from daskel.core.content.unified_images import OWN_KEY
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.site.private import private_clients, private_roots
from daskel.core.values import few

PROTECTS = {  # by the place of the key; docs/security.md has the whole table
    "tpm": "who listens on the wire, who answers in the server's place, who is at the machine",
    "variable": "who listens on the wire; not: other systems that are booted on the machine",
    "passphrase": "who finds the machine off; not: who listens and guesses, however long",
    "medium": "who listens on the wire; not: who takes the medium",
}


def _loose(site: Site) -> Iterator[str]:
    """Clients whose key is tied to one image (PCR 4), and whose address comes from a pool."""
    for name in private_clients(site):
        found = effective(site, name)
        by_image = found.loader == "none" and found.secure_boot not in OWN_KEY
        if by_image and found.address is None:
            yield name


def check_private(site: Site) -> Iterator[Finding]:
    """A tunnel that cannot be, and who has no key for it. Roots that are private for some and in
    clear for others are found with their command lines."""
    private, rules = private_roots(site), site.settings.private
    if not private:
        return
    for name, segment in site.segments.items():
        loadout = site.loadouts.get(segment.unknown)
        if loadout and loadout.root in private:
            origin = site.origin("segment", name, "unknown")
            problem = (
                f"unknown machines cannot have the private root {loadout.root}: they have no key"
            )
            yield Finding(Severity.ERROR, origin, problem, 'unknown = "lobby"')
    if rules is None:
        return  # which is said with each client
    origin = site.origin("site", "private")
    if site.settings.nfs == "kernel":
        problem = 'private roots are served by Daskel itself, not with nfs = "kernel"'
        yield Finding(Severity.ERROR, site.origin("site", "nfs"), problem, "leave one of them out")
    loose = sorted(_loose(site)) if "tpm" in rules.key else ()
    if loose:
        problem = (
            f"the key in the TPM of {few(loose, 3)} is tied to an image with its address in it"
        )
        problem += ", which may change: then it makes first contact anew"
        remedy = 'address = ... for each; or Secure Boot with the site\'s key: secure-boot = "db"'
        yield Finding(Severity.WARNING, origin, problem, remedy)
    for name, segment in site.segments.items():
        if segment.network6 and segment.network6.overlaps(rules.network):
            problem = f"the tunnel's network {rules.network} overlaps segment {name}'s "
            problem += f"({segment.network6})"
            remedy = 'choose another one: private = { network = "fd61:5eca::/64" }'
            yield Finding(Severity.ERROR, origin, problem, remedy)
    if rules.network.prefixlen > 96:
        problem = (
            f"{rules.network} is too small: clients' addresses follow from their MAC addresses"
        )
        yield Finding(Severity.ERROR, origin, problem, "choose a /64")
