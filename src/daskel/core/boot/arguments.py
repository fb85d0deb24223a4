"""The kernel command line: the layers with their templates filled in, and the root's part."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from hashlib import blake2b
from ipaddress import IPv4Address

from daskel.core.boot import images, mount_paths
from daskel.core.boot.segments import multicast_group
from daskel.core.boot.template import FillError, render
from daskel.core.boot.wire import Ports, host
from daskel.core.history.events import Address
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.key_types import Delivery, KeyPlace
from daskel.core.site.layers import Effective, Sourced, effective, key_of
from daskel.core.site.model import Site
from daskel.core.site.own_kernels import of_path
from daskel.core.site.positions import Origin
from daskel.core.site.private import INSIDE, inner_address, inside, private_roots
from daskel.core.site.published import CLIENT, IMAGE, BootSet, path_of
from daskel.core.site.remembered import remembered
from daskel.core.site.slate_rules import slate_of
from daskel.core.site.tables import Client, Private, Segment

COMMAND_LINE_LIMIT = 2047  # bytes, COMMAND_LINE_SIZE of Linux on x86
WORKING_TREE = "tree"  # in a path that clients mount, instead of a version's number
_MOST_DIGITS = 10  # of a version's number


class ArgumentError(ValueError):
    """A kernel argument whose template cannot be filled in."""

    def __init__(self, argument: Sourced[str], reason: str) -> None:
        super().__init__(f"{argument.origin}: kernel argument {argument.value!r}: {reason}")
        self.argument, self.reason = argument, reason


class RootError(ArgumentError):
    """A root cannot come to a client, and what to do."""

    def __init__(self, said: Sourced[str], why: str, remedy: str) -> None:
        super().__init__(said, why)
        self.remedy = remedy


class NotPackedError(RootError):
    """A version that is to be delivered as an image has none."""

    def __init__(self, delivery: Sourced[Delivery], why: tuple[str, str]) -> None:
        said = Sourced(f'delivery = "{delivery.value}"', delivery.origin)
        super().__init__(said, why[0], f'{why[1]}; or choose delivery = "files"')


def export_path(root: str, version: int | None = None) -> str:
    """The path that clients mount to get a root, or one version of it, 0 for its working tree."""
    name = "" if version is None else f"@{version or WORKING_TREE}"
    return f"/roots/{root}{name}"


def asked_for(path: str, roots: Collection[str]) -> tuple[str, int | None, str] | None:
    """The root, the version where the path names one, and the folder below it, of a path that a
    client wants to mount; None when no root is there."""
    wanted = "/" + path.strip("/") + "/"
    for root in roots:
        start = export_path(root)
        if wanted.startswith(start + "/"):
            return root, None, wanted[len(start) :].strip("/")
    for root in roots:
        start = export_path(root) + "@"
        version, _, below = wanted.removeprefix(start).partition("/")
        numbered = version.isascii() and version.isdigit() and len(version) < _MOST_DIGITS
        if wanted.startswith(start) and (numbered or version == WORKING_TREE):
            return root, int(version) if numbered else 0, below.strip("/")
    return None


def mount_path(site: Site, found: Effective, root: str) -> str:
    """The path that one client mounts to get a root. For Daskel's NFS server it is the same for
    all; for the operating system's it is where the client's view is. Where the kernel is the
    root's, both are of one version."""
    version = _version(site, found, root)
    if site.settings.nfs == "daskel":
        return export_path(root, version)
    if found.name in site.clients and slate_of(site, found.client, root) != "none":
        return mount_paths.slate_path(root, found.name)
    if version is not None:
        return mount_paths.version_path(root, version)
    return mount_paths.root_path(root)


def _version(site: Site, found: Effective, root: str) -> int | None:
    """The version of a root that a client's kernel is of."""
    made = of_path(site, found.loadout.kernel) if found.loadout else None
    return made[1].version if made and made[0] == root else None


def nfs_root(site: Site, found: Effective, segment: Segment, root: str, ports: Ports) -> str:
    """Server, path and options of a network root, in the form of option 17 and `nfsroot=`.

    Only options that the kernel, busybox and the usual initrds all know. Debian's initrd knows no
    `mountport`: it asks the port mapper.
    """
    own = ports if site.settings.nfs == "daskel" else Ports()  # others do not practise
    where = f"{host(segment.server)}:{mount_path(site, found, root)}"
    return f"{where},v3,tcp,port={own.nfs},nolock"


def variables(
    site: Site, found: Effective, address: Address | None, *, over_ipv4: bool = False
) -> dict[str, Mapping[str, str]]:
    """What templates can name. What is not known (an address before it is given) is not there.
    `over_ipv4`: of a site `over_ipv6`, for a system that knows IPv4 alone."""
    here = found.segment.value if found.segment else ""
    fixed = found.address.value if found.address and not over_ipv4 else None
    known = address or fixed
    in_site = found.name in site.clients  # strangers are not remembered: there is no end of them
    return {
        "client": _client_variables(site, found.name, known) if in_site
        else _machine_variables(found.name, found.client, known),
        "segment": _segment_variables(site, here, over_ipv4) if here in site.segments else {},
        "site": {"name": site.settings.name},
        "loadout": {"name": found.loadout_name or ""},
    }  # fmt: skip


@remembered
def _client_variables(site: Site, name: str, address: Address | None) -> Mapping[str, str]:
    return _machine_variables(name, site.clients[name], address)


def _machine_variables(name: str, client: Client, address: Address | None) -> Mapping[str, str]:
    mac = client.mac
    known = {
        "name": name,
        "mac": mac,
        "mac_dashed": mac.replace(":", "-"),
        "mac_plain": mac.replace(":", ""),
        "address": str(address) if address else None,
        "uuid": client.uuid,
        "serial": client.serial,
        "machine_id": blake2b(mac.encode(), digest_size=16).hexdigest(),
    }
    return {key: value for key, value in known.items() if value is not None}


@remembered
def _segment_variables(site: Site, name: str, over_ipv4: bool) -> Mapping[str, str]:
    segment = site.ipv4[name] if over_ipv4 else site.segments[name]
    six = site.segments[name].server if site.ipv4 else segment.server6
    known = {
        "name": name,
        "server": str(segment.server),
        "host": host(segment.server),
        "server6": str(six) if six else None,
        "network": str(segment.network),
        "mask": str(segment.network.netmask),
        "router": str(segment.router) if segment.router else None,
        "domain": segment.domain,
    }
    return {key: value for key, value in known.items() if value is not None}


def compose(
    site: Site, found: Effective, segment: Segment, ports: Ports, address: Address | None
) -> tuple[Sourced[str], ...]:
    """The whole command line of one client, in order. Raises ArgumentError.

    The root's part comes first; the administrator's `root=` or `ip=` replaces Daskel's. Of a site
    `over_ipv6`, it is for IPv4 all the same where the system is not sure to know better.
    """
    here = found.segment.value if found.segment else ""
    over_ipv4 = here in site.ipv4 and not knows_ipv6(site, found)
    if over_ipv4:
        segment, address = site.ipv4[here], None
    known = variables(site, found, address, over_ipv4=over_ipv4)
    written = [Sourced(_fill(argument, known), argument.origin) for argument in found.arguments]
    keys = {key_of(argument.value) for argument in written}
    ours = [
        made
        for made in _root_part(site, found, segment, ports, address)
        if key_of(made.value) not in keys
    ]
    return (*ours, *written)


def _root_part(
    site: Site, found: Effective, segment: Segment, ports: Ports, address: Address | None
) -> list[Sourced[str]]:
    if found.loadout_name is None or found.loadout is None or found.loadout.root is None:
        return []
    root, rules = found.loadout.root, site.roots.get(found.loadout.root)
    of_segment: dict[str, Origin] = {}
    slate = slate_of(site, found.client, root)
    if (found.is_private or root in private_roots(site)) and not site.tunnel:
        origin = found.private.origin if found.private else site.origin("root", root)
        where = _private(site, found, segment, ports, origin)
        where += _own_address(segment, address)
    elif site.ipv4 and segment.server.version != 4 and found.way == "files":
        origin = site.origin("loadout", found.loadout_name, "root")
        where = _by_nfs(site, found, segment, ports, root)
        where += _own_address(segment, address)
    elif found.delivery is None or found.way == "files" or rules is None:
        origin = site.origin("loadout", found.loadout_name, "root")
        where = ["root=/dev/nfs", f"nfsroot={nfs_root(site, found, segment, root, ports)}"]
    else:
        origin = found.delivery.origin
        where = _image(site, found, segment, ports, rules.size)
        here = found.segment.value if found.segment else ""
        of_segment = {images.MULTICAST: site.origin("segment", here, "multicast")}
        where += _own_address(segment, address)
    interface = "01-" + found.mac.value.replace(":", "-")
    writes = "ro" if slate == "none" else "rw"
    asks = "ip=dhcp" if segment.server.version == 4 else "ip=off"  # initrds ask for IPv4 alone
    texts = (*where, asks, f"BOOTIF={interface}", writes)
    return [Sourced(text, of_segment.get(key_of(text), origin)) for text in texts]


def _by_nfs(site: Site, found: Effective, segment: Segment, ports: Ports, root: str) -> list[str]:
    """How Daskel's own initrd mounts the files of a root."""
    server = host(segment.server)
    return [
        images.BOOT,
        f"{images.ROOT}=nfs://{server}:{ports.nfs}{mount_path(site, found, root)}",
        f"{images.TELL}={server}:{ports.http}",
        f"{images.SLATE}={slate_of(site, found.client, root)}",
    ]


def _private(
    site: Site, found: Effective, segment: Segment, ports: Ports, origin: Origin
) -> list[str]:
    """How the initrd comes to a root by the tunnel. Raises ArgumentError."""
    assert found.loadout and found.loadout.root
    root, rules = found.loadout.root, site.settings.private
    said = Sourced(f"private = {'true' if found.is_private else 'false'}", origin)
    if not found.is_private:
        problem = f"the root {root} is private for others, and nobody gets it in clear"
        raise RootError(said, problem, "private = true here, too; or give others another root")
    if rules is None:
        raise RootError(said, "the site has no tunnel", "add private = {} to [site]")
    if not has_client_part(site, found):
        made = of_path(site, found.loadout.kernel)
        why, remedy = why_not_packed(root, made and made[1])
        raise RootError(said, f"its initrd builds no tunnel, since {why}", remedy)
    here = inside(site).segments[INSIDE]
    if found.way == "files":
        where = _by_nfs(site, found, here, ports, root)
    else:
        where = _image(site, found, here, ports, site.roots[root].size)
    own = inner_address(site, found.mac.value)
    places = key_places(rules, found)
    if not places:
        problem = "a TPM says nothing of what a boot loader started"
        remedy = 'loader = "none" for it, or another place: key = ["tpm", "variable", "medium"]'
        raise RootError(Sourced('key = ["tpm"]', site.origin("site", "private")), problem, remedy)
    if "tpm" in places:  # no initrd gives a shell to who is at the machine, before the TPM is shut
        where += ["panic=30", "rd.shell=0"]
    tunnel = f"{host(segment.server)},{rules.port},{own},{here.server}"
    contact = f"{host(segment.server)}:{ports.http}"
    where += [f"{images.PRIVATE}={tunnel}", f"{images.KEY}={','.join(places)}"]
    return [*where, f"{images.CONTACT}={contact}"]


def key_places(rules: Private, found: Effective) -> list[KeyPlace]:
    """Where a client may have its key: a TPM is worth something where all that is started is in one
    image."""
    return [place for place in rules.key if place != "tpm" or found.loader == "none"]


def has_client_part(site: Site, found: Effective) -> bool:
    """Whether Daskel's own initrd is part of what a client boots: it comes with the image of a
    version."""
    made = of_path(site, found.loadout.kernel) if found.loadout else None
    if found.loadout is None or made is None or made[0] != found.loadout.root:
        return False
    return CLIENT in made[1].files


def knows_ipv6(site: Site, found: Effective) -> bool:
    """Whether what a client boots is sure to know IPv6: where Daskel's own initrd is part of it,
    which comes with the image of a version. All others are told IPv4's addresses."""
    return has_client_part(site, found) and site.settings.nfs == "daskel"


def _own_address(segment: Segment, address: Address | None) -> list[str]:
    """For initrds that ask nobody for one."""
    if address is None:
        return []
    router = [f"{images.ROUTER}={segment.router}"] if segment.router else []
    return [f"{images.ADDRESS}={address}/{segment.network.prefixlen}", *router]


def _image(
    site: Site, found: Effective, segment: Segment, ports: Ports, size: int | None
) -> list[str]:
    """How the initrd gets the image of a version, and what its client may change. Raises
    NotPackedError."""
    assert found.loadout and found.loadout.root and found.delivery
    root, made = found.loadout.root, of_path(site, found.loadout.kernel)
    if made is None or not made[1].packed:
        raise NotPackedError(found.delivery, why_not_packed(root, made and made[1]))
    slate, version = slate_of(site, found.client, root), made[1].version
    if slate == "keep" and found.name not in site.clients:
        slate = "fresh"  # nothing is kept for a machine that is not in the site
    words = {images.TELL: f"{host(segment.server)}:{ports.http}", images.SLATE: slate}
    if found.way == "blocks":
        place = f"nbd://{host(segment.server)}:{ports.nbd}"
        words[images.ROOT] = f"{place}/{images.image_name(root, version)}"
        if slate == "keep":
            words[images.KEEP] = images.disk_name(root, version, found.name)
    else:
        path = path_of(root, made[1].name, IMAGE)
        words[images.ROOT] = f"http://{host(segment.server)}:{ports.http}/{path}"
        words[images.DIGEST] = made[1].files[IMAGE].digest
        if (group := multicast_group(segment)) is not None:
            words[images.MULTICAST] = str(group)
    if size is not None and slate == "fresh":
        words[images.SIZE] = str(size)
    return [images.BOOT, *(f"{key}={value}" for key, value in words.items())]


def why_not_packed(root: str, made: BootSet | None) -> tuple[str, str]:
    """Why a version cannot be delivered as an image, and what to do."""
    if made is None:
        return (
            "the loadout boots another kernel than the root's own",
            "leave out kernel = ... there",
        )
    if made.version == 0:
        problem = f"clients get the working tree of {root}"
        return problem, f"seal a version: daskel root seal {root}"
    problem = f"version {made.version} of {root} has no image"
    return problem, f"make it: daskel root pack {root} {made.version}"


def _fill(argument: Sourced[str], known: Mapping[str, Mapping[str, str]]) -> str:
    if "{" not in argument.value:
        return argument.value
    try:
        text = render(argument.value, known).strip()
    except FillError as error:
        raise ArgumentError(argument, str(error)) from error
    if not text.isprintable():
        raise ArgumentError(argument, "the result has a line break or control character in it")
    return text


def check_arguments(site: Site, ports: Ports, only: Collection[str] | None = None) -> list[Finding]:
    """Templates that fail for some client, and command lines that the kernel would cut."""
    findings: dict[tuple[str, str], Finding] = {}
    for name, found in _every_boot(site, only):
        segment = site.segments.get(found.segment.value) if found.segment else None
        if segment is None:
            continue
        try:
            line = " ".join(
                a.value for a in compose(site, found, segment, ports, any_address(segment))
            )
        except RootError as error:
            problem = f"{error.argument.value}: {error.reason} (client {name})"
            finding = Finding(Severity.ERROR, error.argument.origin, problem, error.remedy)
            findings.setdefault((str(error.argument.origin), error.reason), finding)
            continue
        except ArgumentError as error:
            problem = f"kernel argument {error.argument.value!r}: {error.reason} (client {name})"
            remedy = f"known are: {_known_names(site, found)}"
            finding = Finding(Severity.ERROR, error.argument.origin, problem, remedy)
            findings.setdefault((str(error.argument.origin), error.reason), finding)
            continue
        if len(line.encode()) > COMMAND_LINE_LIMIT:
            problem = (
                f"{name}'s command line has {len(line)} bytes, Linux reads {COMMAND_LINE_LIMIT}"
            )
            origin = site.origin("client", name)
            findings[(name, "long")] = Finding(Severity.ERROR, origin, problem, "shorten it")
        for argument in found.arguments:
            if (
                found.loadout
                and found.loadout.root
                and key_of(argument.value) in ("root", "nfsroot")
            ):
                problem = (
                    f"{argument.value!r} replaces the root {found.loadout.root} of the loadout"
                )
                remedy = "remove one of the two"
                finding = Finding(Severity.WARNING, argument.origin, problem, remedy)
                findings.setdefault((str(argument.origin), "root"), finding)
    return list(findings.values())


def any_address(segment: Segment) -> IPv4Address:
    """Stands for the address that a client will get from the pool."""
    return segment.pool[0].first if segment.pool else segment.network[-2]


_OWN_NUMBERS = {"mac", "address", "address6", "uuid", "serial", "place"}  # each client's alone


def representatives(site: Site, only: Collection[str] | None) -> list[str]:
    """One client for all that differ in nothing but their names and numbers: a template that can
    be filled in for it can be for the others. Of each, the one with the longest name."""
    chosen: dict[tuple[tuple[str, str], ...], str] = {}
    for name in site.clients if only is None else only:
        client = site.clients[name]
        alike = tuple(
            (key, "" if key in _OWN_NUMBERS else repr(getattr(client, key)))
            for key in sorted(client.model_fields_set)
        )
        if len(name) > len(chosen.get(alike, "")):
            chosen[alike] = name
    return list(chosen.values())


def _every_boot(site: Site, only: Collection[str] | None) -> Iterator[tuple[str, Effective]]:
    """Each client, of those that are alike one, with each loadout that it can boot."""
    for name in representatives(site, only):
        found = effective(site, name)
        for entry in found.entries:
            default = entry == found.loadout_name
            yield name, found if default else effective(site, name, entry=entry)


def _known_names(site: Site, found: Effective) -> str:
    known = variables(site, found, None)
    return ", ".join(f"{group}.{name}" for group, names in known.items() for name in names)
