"""The text of a new site file: commented, and good as it stands."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface

from daskel.core.site.key_types import Range

SCHEMA = "daskel.schema.json"  # the file beside the site file


@dataclass(frozen=True, slots=True)
class NewSite:
    """What a new site needs to be told."""

    name: str
    server: IPv4Interface  # this machine's address, with the network's length
    segment: str
    pool: Range
    interface: str | None = None
    router: IPv4Address | None = None
    domain: str | None = None


def suggested_pool(server: IPv4Interface) -> Range:
    """The upper half of the network without the server, the broadcast address and the one before
    it, which often is the router's.

    Raises ValueError for a network that is too small for a server and a pool.
    """
    network = server.network
    if network.num_addresses < 8:
        raise ValueError(f"{network} is too small: eight addresses at least, like a /29")
    first = network[network.num_addresses // 2]
    last = network[-3]
    if first <= server.ip <= last:
        first, last = network[1], network[network.num_addresses // 2 - 1]
    return Range(first, last)


def _quoted(text: object) -> str:
    escaped = str(text).replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def _optional(key: str, value: object, example: str, comment: str) -> str:
    """A line with the answer, or the same line as a comment with an example."""
    if value is not None:
        return f"{key} = {_quoted(value)}"
    return f"# {key} = {_quoted(example)}   # {comment}"


def fresh(answers: NewSite) -> str:
    """The site file's text."""
    network = answers.server.network
    lines = [
        f"#:schema {SCHEMA}",  # by which editors complete, and mark errors
        f"# {answers.name}: who gets what. `daskel check` says what is wrong here,",
        "# `daskel explain CLIENT` what a client gets.",
        "format = 1",
        "",
        "[site]",
        f"name = {_quoted(answers.name)}",
        'files = "files"          # kernels and initrds, relative to this file',
        'roots = "roots"          # a folder for each root filesystem',
        'slates = "slates"        # what clients change on their roots',
        'state = "state.db"       # leases',
        "",
        f"[segment.{answers.segment}]",
        f"network = {_quoted(network)}",
        f"server = {_quoted(answers.server.ip)}   # this machine's address there, a fixed one",
        _optional("interface", answers.interface, "eth1", "when the address alone does not tell"),
        'dhcp = "full"            # Daskel is the DHCP server here: it must be the only one',
        f"pool = [{_quoted(answers.pool)}]",
        _optional("router", answers.router, str(network[1]), "the way out, if there is one"),
        _optional("domain", answers.domain, "lab.example", "the clients' domain"),
        'lease = "8h"',
        'unknown = "lobby"        # for machines that are not below; or "refuse", or a loadout',
        "",
        "[loadout.disk]",
        'boot = "local"           # start from the client\'s own disk',
        "",
        "# What a client is loaded with; put the files below files/, the root below roots/.",
        "# [root.desktop]",
        '# slate = "keep"         # clients keep what they change; or "fresh", wiped at every boot',
        "# [loadout.desktop]",
        '# kernel = "desktop/vmlinuz"',
        '# initrd = ["desktop/initrd.img"]',
        '# args = ["quiet", "hostname={{ client.name }}"]',
        '# root = "desktop"',
        "",
        f"[group.{answers.segment}]",
        f"segment = {_quoted(answers.segment)}",
        'boot = "disk"            # a loadout, or a choice: a menu of several',
        "",
        "# A machine: daskel client add NAME mac=... group=" + answers.segment,
        "",
    ]
    return "\n".join(lines)
