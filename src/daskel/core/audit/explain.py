"""What one client gets, step by step, with the place that each value comes from.

It is computed by the same code that answers the client: a firmware's DISCOVER goes in.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import cast
from urllib.parse import urlsplit

from daskel.core.audit.private import PROTECTS
from daskel.core.boot import images
from daskel.core.boot.arguments import compose, key_places, knows_ipv6, mount_path, nfs_root
from daskel.core.boot.wire import Ports, host
from daskel.core.content.computed import client_paths, grub_text, uboot_text, written_text
from daskel.core.content.grub import config_path, is_built_in, loader_name, wants_loader
from daskel.core.content.raw_systems import Asked, RawSystem, raw_system
from daskel.core.content.signed_chain import chain_of
from daskel.core.content.unified_images import (
    OWN_KEY,
    Role,
    asked_for,
    second_stage,
    stub_path,
)
from daskel.core.dhcp import options
from daskel.core.dhcp.packet import NOWHERE, Packet, serialise
from daskel.core.dhcp.pxe import BootRequest
from daskel.core.dhcp6.client_messages import link_local
from daskel.core.dhcp6.message import Code, Message, parse
from daskel.core.history.events import Refused, Who
from daskel.core.replies.answer import DISK_BOOT, Answers
from daskel.core.replies.answer6 import Answers6, Question6
from daskel.core.replies.bootfile import BootFile
from daskel.core.replies.reply import Question, Setting
from daskel.core.roots.views import NAME_COST
from daskel.core.site.layers import Assigned, Effective, Overridden, Sourced, effective
from daskel.core.site.model import Site
from daskel.core.site.own_kernels import of_path
from daskel.core.site.positions import Origin
from daskel.core.site.private import INSIDE, inner_address, inside
from daskel.core.site.published import IMAGE
from daskel.core.site.slate_rules import on_its_slate, slate_rule
from daskel.core.values import show_duration, show_limit, show_size


@dataclass(frozen=True, slots=True)
class Line:
    """One value of a step. `number` for DHCP options alone; no origin: Daskel makes it."""

    name: str
    value: str
    origin: Origin | None = None
    number: int | None = None


@dataclass(frozen=True, slots=True)
class Step:
    """One step of the boot: what goes to the client then. `text` is a whole file."""

    title: str
    lines: tuple[Line, ...] = ()
    text: str = ""


@dataclass(frozen=True, slots=True)
class Explanation:
    """What one client gets, in the order in which it gets it."""

    client: str
    mac: str
    segment: str
    steps: tuple[Step, ...]
    overridden: tuple[Overridden, ...] = ()
    problem: str = ""  # why the client does not get this far
    without_ip: bool = False  # it asks in raw Ethernet frames, and has no firmware that boots by IP


def explain(answers: Answers, name: str, discover: Packet, now: float) -> Explanation:
    """Explain one client of the site; `discover` is what its firmware would send.

    Raises KeyError for an unknown name, ValueError for a client on no segment, and ArgumentError.
    """
    site, ports, assigned = answers.site, answers.replies.ports, answers.replies.assigned
    found = on_its_slate(site, effective(site, name, once=assigned.waiting.get(name)), assigned)
    if found.segment is None or found.segment.value not in site.segments:
        raise ValueError(f"client {name} is on no segment")
    segment = found.segment.value
    raw = tuple(_raw(site, found, segment))
    if raw and found.in_raw_frames:
        return Explanation(name, found.mac.value, segment, raw, found.overridden, without_ip=True)
    question = answers.replies.question(segment, discover, now)
    answer = answers.dhcp(segment, discover, now, unicast=False)
    file = answers.replies.plan(question).file
    mode, given = site.segments[segment].dhcp, found.address.value if found.address else NOWHERE
    if answer.reply is not None:
        steps = [_dhcp(answers, found, answer.reply, question)]
        given = answer.reply.yiaddr if mode == "full" else given
    elif mode == "full":
        refusal = next((e.reason for e in answer.events if isinstance(e, Refused)), "")
        return Explanation(name, found.mac.value, segment, (), found.overridden, refusal)
    else:
        steps = [_elsewhere(site, segment, mode)]
    here = _Here(site, segment, ports, assigned, found)
    steps += [*_boots(here, question.boot, file, given), *raw]
    overridden = found.overridden
    return Explanation(name, found.mac.value, segment, tuple(steps), overridden, file.said)


def explain_over_ipv6(answers: Answers6, name: str, solicit: Message, now: float) -> Explanation:
    """The same of firmware that asks over IPv6; of a site `over_ipv6`. Raises as `explain`, and
    ValueError where the client's segment has no IPv6 network."""
    site, ports, assigned = answers.site, answers.ports, answers.assigned
    found = on_its_slate(site, effective(site, name, once=assigned.waiting.get(name)), assigned)
    if found.segment is None or found.segment.value not in site.segments:
        raise ValueError(f"client {name} is on no segment that has an IPv6 network (network6)")
    segment, mac = found.segment.value, found.mac.value
    question = answers.question(segment, solicit, mac, now)
    answer, given = answers.receive([segment], solicit, link_local(mac), now), None
    if answer.reply:
        told = parse(answer.reply)
        given = cast(IPv4Address | None, told.address)
    if given is not None:
        steps = [_dhcp6(answers, question, parse(answer.reply))]
    elif site.segments[segment].dhcp == "full":
        refusal = next((e.reason for e in answer.events if isinstance(e, Refused)), "")
        return Explanation(name, mac, segment, (), found.overridden, refusal)
    else:
        said = f"another server; daskel handoff {segment} says what it must send"
        steps = [Step("DHCPv6 reply", (Line("sent by", said, site.origin("segment", segment)),))]
        given = question.fixed or NOWHERE
    file = answers.file(question)
    here = _Here(site, segment, ports, assigned, found)
    steps += _boots(here, question.boot, file, given)
    return Explanation(name, mac, segment, tuple(steps), found.overridden, file.said)


def _dhcp6(answers: Answers6, question: Question6, reply: Message) -> Step:
    site, segment, file = answers.site, question.segment, answers.file(question)
    found = question.found
    given = found.address.origin if found.address else site.origin("segment", segment, "pool")
    lines = [
        Line("address", f"{reply.address}, for {show_duration(reply.lease)}", given),
        Line("boot-file-url", reply.boot_file or "(none)", file.origin, Code.BOOT_FILE_URL),
    ]
    if said := reply.vendor_class.decode("ascii", "replace"):
        lines.append(Line("vendor-class", said, None, Code.VENDOR_CLASS))
    return Step("DHCPv6 reply", tuple(lines))


@dataclass(frozen=True, slots=True)
class _Here:
    """Where a client is, and what is said of it."""

    site: Site
    segment: str
    ports: Ports
    assigned: Assigned
    found: Effective


def _boots(here: _Here, boot: BootRequest | None, file: BootFile, given: IPv4Address) -> list[Step]:
    """What follows the DHCP reply."""
    site, found, ports = here.site, here.found, here.ports
    local, steps = not wants_loader(found), []
    if file.path is not None and boot:
        steps += _boot(here, boot, file, given)
    elif file.origin is not None:
        steps.append(Step("Boot", (Line("boot file", "none", file.origin),)))
    elif local:
        why = DISK_BOOT if found.loadout else "nothing: it has no loadout"
        steps.append(Step("Boot", (Line("boots", why, found.boot.origin if found.boot else None),)))
    return [*steps, *_written(site, found, ports, given)]


def _raw(site: Site, found: Effective, segment: str) -> list[Step]:
    """What it gets when it asks in raw Ethernet frames."""
    loadout, name = found.loadout, found.loadout_name
    if loadout is None or name is None or not (loadout.raw or loadout.names):
        return []
    answered = site.segments[segment].raw
    said = site.origin("segment", segment, "raw")
    lines = [
        Line("asks", "answered, by MOP and RPL" if answered else "not answered: raw = false", said),
        Line("loadout", name, found.boot.origin if found.boot else None),
    ]
    for key, asked in ((None, "any system"), *((n, f'"{n}"') for n in loadout.names)):
        who = Who(found.name, found.mac.value)
        system = raw_system(site, who, segment, Asked(key))
        place = ("raw",) if key is None else ("names", key)
        if isinstance(system, RawSystem):
            images = [f"{image.path}, to {image.load:#x}" for image in system.images]
            text = f"{'; '.join(images)}; begun at {system.start:#x}"
            lines.append(Line(asked, text, site.origin("loadout", name, *place)))
    return [Step("Raw Ethernet frames", tuple(lines))]


def _elsewhere(site: Site, segment: str, mode: str) -> Step:
    """The step that another DHCP server does alone."""
    origin = site.origin("segment", segment, "dhcp")
    told = f"another DHCP server alone; daskel handoff {segment} says what it must send"
    text = "another DHCP server; Daskel adds nothing" if mode == "proxy" else told
    return Step("DHCP reply", (Line("sent by", text, origin),))


def _written(site: Site, found: Effective, ports: Ports, address: IPv4Address) -> list[Step]:
    """The files of the site file that are this client's own."""
    steps = []
    for pattern, file in site.files.items():
        for path in client_paths(site, pattern, found.name):
            if file.folder is not None:
                line = Line("paths", path, site.origin("file", pattern))
                shared = Line("else in", file.folder, site.origin("file", pattern, "folder"))
                steps.append(Step("Files", (line, shared)))
                continue
            text = written_text(site, pattern, found, ports, address)
            line = Line("path", path, site.origin("file", pattern))
            steps.append(Step("File", (line,), text))
    return steps


def _dhcp(answers: Answers, found: Effective, reply: Packet, question: Question) -> Step:
    site, segment, plan = answers.site, question.segment, answers.replies.plan(question)
    settings: dict[int, Setting] = {setting.code: setting for setting in plan.settings}
    given = found.address.origin if found.address else site.origin("segment", segment, "pool")
    server = site.origin("segment", segment, "server")
    address = Line("address", str(reply.yiaddr), given)
    if reply.yiaddr == NOWHERE:
        text = "given by another DHCP server; this offer adds where to boot"
        address = Line("address", text, site.origin("segment", segment, "dhcp"))
    lines = [
        address,
        Line("next server", str(reply.siaddr), server),
        Line("boot file", reply.file.decode(errors="replace") or "(none)", plan.file.origin),
    ]
    limit = question.request.limit
    dropped = serialise(reply, limit)[1]
    names = {option.code: name for name, option in site.options.items() if not option.inside}
    for code, value in reply.options.items():
        setting = settings.get(code)
        shown = options.show(code, value, setting.type if setting else None)
        if code in dropped:
            shown += f"   (left out: the reply may have {limit} bytes)"
        origin = setting.origin if setting else None
        origin = server if code == options.Code.SERVER_ID else origin
        lines.append(Line(names.get(code, options.name(code)), shown, origin, code))
    return Step("DHCP reply", tuple(lines))


def _chain(found: Effective, path: str) -> Iterator[Line]:
    """What a chain for Secure Boot goes on to, and what says that it is used."""
    chain, said = chain_of(path), found.ways.get("secure-boot")
    if chain is None:
        return
    origin = said.origin if said else None
    yield Line("Secure Boot on", f"shim, then {chain.second}, which loads over TFTP", origin)
    yield Line("Secure Boot off", f"the same, then {chain.goes_on_to}", origin)


def _no_chain(site: Site, found: Effective, boot: BootRequest) -> Iterator[Line]:
    """Why a machine that could get the signed chain does not."""
    loader = loader_name(boot.firmware) if boot.firmware else ""
    if boot.over_http and found.secure_boot == "auto" and loader in site.signed:
        said = "refused: the signed chain gets no address over HTTP; let its firmware boot by PXE"
        yield Line("Secure Boot on", said)


def _by_key(site: Site, found: Effective, path: str) -> Iterator[Line]:
    """What stands behind a path of the site's key: what is next, and who signed it."""
    asked, signed = asked_for(urlsplit(path).path.lstrip("/")), site.settings.signing
    if asked is None and signed and is_built_in(path):
        by = f"the site's key ({signed.certificate})"
        yield Line("signed by", by, site.origin("site", "signing"))
    if asked is None:
        return
    said, chain = {key: one.origin for key, one in found.ways.items()}, asked.chain
    if asked.role is Role.SHIM:
        what = "the image" if asked.mac else f"Daskel's own boot loader ({chain.goes_on_to})"
        next_one = f"shim, then {what} as {second_stage(chain, asked.mac)}"
        yield Line("goes on", next_one, said.get("secure-boot"))
    if asked.mac:
        whole = "one image of what follows, made as it is asked for"
        yield Line("no loader", whole, said.get("loader"))
        yield Line("stub", stub_path(chain), None)
    by = f"the site's key ({signed.certificate})" if signed else "nobody: Secure Boot refuses it"
    yield Line("signed by", by, site.origin("site", "signing") if signed else None)


def _boot(here: _Here, boot: BootRequest, file: BootFile, address: IPv4Address) -> list[Step]:
    site, ports, assigned, found = here.site, here.ports, here.assigned, here.found
    over = "http" if boot.over_http else "tftp"
    loaded = Line(f"over {over.upper()}", file.path or "", file.origin)
    if file.origin is not None or not (found.loadout and found.loadout_name):
        return [Step("Boot file", (loaded,))]
    assert found.segment and found.boot
    segment = site.segments[found.segment.value]
    loadout, place = found.loadout, ("loadout", found.loadout_name)
    arguments = compose(site, found, segment, ports, address)
    asked = Line(f"over {over.upper()}", config_path(found.mac.value))
    line = " ".join(argument.value for argument in arguments)
    who = Who(found.name, found.mac.value, address)
    text = grub_text(site, who, found.segment.value, ports, over, assigned)
    by_key, files = list(_by_key(site, found, file.path or "")), []
    alone = any(line.name == "no loader" for line in by_key)
    if found.choice:
        files.append(Line("choice", found.boot.value, found.boot.origin))
        places = [site.origin("choice", found.boot.value, "entries")]
        files.append(Line("entries", ", ".join(found.entries), places[0]))
    origin = (
        site.origin("choice", found.boot.value, "default") if found.choice else found.boot.origin
    )
    files.append(Line("loadout", found.loadout_name, origin))
    if loadout.boot == "local":
        files.append(Line("boots", "its own disk", site.origin(*place, "boot")))
    if loadout.kernel:
        own = of_path(site, loadout.kernel)
        more = f"   ({own[1].release}, the root's own)" if own else ""
        files.append(Line("kernel", loadout.kernel + more, site.origin(*place, "kernel")))
    if loadout.kernel and over == "tftp" and not boot.script and not alone:
        how = "HTTP, else TFTP" if found.fetches == "http" else "TFTP"
        said = found.ways.get("fetch")
        files.append(Line("fetched over", how, said.origin if said else None))
    files += [Line("initrd", path, site.origin(*place, "initrd")) for path in loadout.initrd]
    loader = (loaded, *_chain(found, file.path or ""), *_no_chain(site, found, boot), *by_key)
    first = [Step("Boot loader", loader), Step("Loader configuration", (asked,), text)]
    if alone:
        first = [Step("Image", (loaded, *by_key))]
    if boot.script:
        script = uboot_text(site, who, found.segment.value, ports, assigned)
        first = [Step("U-Boot's script", (loaded,), script)]
    steps = [
        *first,
        Step("Kernel", tuple(files)),
        Step("Command line", tuple(map(_argument, arguments)), line),
    ]
    if _in_tunnel(site, found):
        steps.append(_tunnel(site, found))
    if loadout.root and found.way != "files":
        steps.append(_by_image(site, found, arguments, site.origin(*place, "root")))
    elif loadout.root:
        origin = site.origin(*place, "root")
        path = mount_path(site, found, loadout.root)
        lines = [Line("root", loadout.root, origin)]
        if site.ipv4 and not knows_ipv6(site, found):
            segment = site.ipv4[here.segment]
            lines.append(Line("over IPv4", _NO_CLIENT_PART, origin))
        there = inside(site).segments[INSIDE] if _in_tunnel(site, found) else segment
        lines.append(Line("mounted as", f"{host(there.server)}:{path}", None))
        if not site.ipv4 and there is segment:
            by_dhcp = nfs_root(site, found, segment, loadout.root, ports)
            lines.append(Line("option 17", by_dhcp, None))
        lines.append(_writing(site, found, loadout.root))
        steps.append(Step("Root filesystem", tuple(lines)))
    return steps


def _in_tunnel(site: Site, found: Effective) -> bool:
    return found.is_private and site.settings.private is not None


def _tunnel(site: Site, found: Effective) -> Step:
    """What a private root comes through."""
    rules = site.settings.private
    assert rules and found.private
    own = inner_address(site, found.mac.value)
    lines = [
        Line("private", "through an encrypted tunnel (WireGuard) alone", found.private.origin),
        Line("tunnel", f"UDP port {rules.port}", site.origin("site", "private")),
        Line("address", f"{own}, inside; the server's is {rules.network[1]}"),
    ]
    usable = key_places(rules, found)
    for place in rules.key:
        text = f"protects from {PROTECTS[place]}"
        if place == "tpm":
            signed = found.secure_boot in OWN_KEY
            tied = "who signs what is started (PCR 7)" if signed else "this one image (PCR 4)"
            text = f"tied to {tied}; {text}"
        if place not in usable:
            text = "not used: a boot loader starts its kernel, of which a TPM says nothing"
        lines.append(Line(f"key: {place}", text))
    return Step("Tunnel", tuple(lines))


_NO_CLIENT_PART = "its initrds know no IPv6; those that come with the image of a version do"
_WAYS = {
    "blocks": "blocks: an image, each block read when it is needed",
    "memory": "memory: an image, fetched whole",
}


def _by_image(
    site: Site, found: Effective, arguments: Sequence[Sourced[str]], origin: Origin
) -> Step:
    """The root of a client that gets it as blocks or in memory."""
    assert found.loadout and found.loadout.root and found.delivery
    words = dict(argument.value.partition("=")[::2] for argument in arguments)
    lines = [
        Line("root", found.loadout.root, origin),
        Line("delivery", _WAYS[found.way], found.delivery.origin),
        Line("image", words.get(images.ROOT, "")),
    ]
    if group := words.get(images.MULTICAST):
        here = site.origin("segment", found.segment.value if found.segment else "", "multicast")
        lines.append(Line("multicast", f"sent once to all that boot together: {group}", here))
    if made := of_path(site, found.loadout.kernel):
        lines.append(Line("size", show_size(made[1].files[IMAGE].size)))
    if kept := words.get(images.KEEP):
        lines.append(Line("kept on", kept))
    return Step("Root filesystem", (*lines, _writing(site, found, found.loadout.root)))


def _argument(argument: Sourced[str]) -> Line:
    return Line("argument", argument.value, argument.origin)


_WRITING = {
    "none": "refused: the root is read-only",
    "fresh": "to a slate of its own, wiped at every boot",
    "keep": "to a slate of its own, kept",
}
_IN_MEMORY = "to the client's own memory, which every boot begins with anew"


def _writing(site: Site, found: Effective, root: str) -> Line:
    """What happens to what the client changes, and the line that says so."""
    rule, limit = slate_rule(site, found.name, found.client, root), site.roots[root].size
    size = ""
    if limit and rule.value != "none":
        files = f" and {limit // NAME_COST:,} files" if found.way == "files" else ""
        size = f", {show_limit(limit)}{files} at most"
    in_memory = found.way != "files" and rule.value == "fresh"
    return Line("writing", (_IN_MEMORY if in_memory else _WRITING[rule.value]) + size, rule.origin)
