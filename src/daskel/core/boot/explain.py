"""What one client gets, step by step, with the place that each value comes from.

It is computed by the same code that answers the client: a firmware's DISCOVER goes in.
"""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

from daskel.core.boot.answer import DISK_BOOT, Answers, Setting
from daskel.core.boot.arguments import compose, export_path, nfs_root
from daskel.core.boot.files import client_paths, grub_text, written_text
from daskel.core.boot.identity import Who
from daskel.core.boot.loader import boot_file, config_path, wants_loader
from daskel.core.boot.stages import Refused
from daskel.core.boot.wire import Ports
from daskel.core.dhcp import options
from daskel.core.dhcp.packet import Packet, serialise
from daskel.core.dhcp.pxe import Firmware
from daskel.core.site.layers import Effective, Overridden, Sourced, effective
from daskel.core.site.model import Site
from daskel.core.site.positions import Origin


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
    client: str
    mac: str
    segment: str
    steps: tuple[Step, ...]
    overridden: tuple[Overridden, ...] = ()
    problem: str = ""  # why the client does not get this far


def explain(answers: Answers, name: str, discover: Packet, now: float) -> Explanation:
    """Explain one client of the site; `discover` is what its firmware would send.

    Raises KeyError for an unknown name, ValueError for a client on no segment, and ArgumentError.
    """
    site, ports = answers.site, answers.ports
    found = effective(site, name)
    if found.segment is None or found.segment.value not in site.segments:
        raise ValueError(f"client {name} is on no segment")
    segment = found.segment.value
    question = answers.question(segment, discover, now)
    answer = answers.dhcp(segment, discover, now, unicast=False)
    refusal = next((e.reason for e in answer.events if isinstance(e, Refused)), "")
    if answer.reply is None:
        return Explanation(name, found.mac.value, segment, (), found.overridden, refusal)
    settings = {setting.code: setting for setting in answers.settings(question)}
    steps = [_dhcp(site, found, answer.reply, discover.limit, settings)]
    firmware = question.boot.firmware if question.boot else None
    local = not wants_loader(found)
    problem = answers.no_loader(question)
    if firmware is not None and not local and not problem:
        steps += _boot(site, found, firmware, ports, answer.reply.yiaddr)
    elif local:
        why = DISK_BOOT if found.loadout else "nothing: it has no loadout"
        steps.append(Step("Boot", (Line("boots", why, found.boot.origin if found.boot else None),)))
    steps += _written(site, found, ports, answer.reply.yiaddr)
    overridden = found.overridden
    return Explanation(name, found.mac.value, segment, tuple(steps), overridden, problem or "")


def _written(site: Site, found: Effective, ports: Ports, address: IPv4Address) -> list[Step]:
    """The files of the site file that are this client's own."""
    steps = []
    for pattern in site.files:
        for path in client_paths(site, pattern, found.name):
            text = written_text(site, pattern, found, ports, address)
            line = Line("path", path, site.origin("file", pattern))
            steps.append(Step("File", (line,), text))
    return steps


def _dhcp(
    site: Site, found: Effective, reply: Packet, limit: int, settings: dict[int, Setting]
) -> Step:
    segment = found.segment.value if found.segment else ""
    given = found.address.origin if found.address else site.origin("segment", segment, "pool")
    server = site.origin("segment", segment, "server")
    lines = [
        Line("address", str(reply.yiaddr), given),
        Line("next server", str(reply.siaddr), server),
        Line("boot file", reply.file.decode(errors="replace") or "(none)"),
    ]
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


def _boot(
    site: Site, found: Effective, firmware: Firmware, ports: Ports, address: IPv4Address
) -> list[Step]:
    assert found.segment and found.boot and found.loadout and found.loadout_name
    segment = site.segments[found.segment.value]
    loadout, place = found.loadout, ("loadout", found.loadout_name)
    arguments = compose(site, found, segment, ports, address)
    over = "http" if firmware.over_http else "tftp"
    asked = Line(f"over {over.upper()}", config_path(found.mac.value))
    line = " ".join(argument.value for argument in arguments)
    who = Who(found.name, found.mac.value, address)
    text = grub_text(site, who, found.segment.value, ports, over)
    files = []
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
        files.append(Line("kernel", loadout.kernel, site.origin(*place, "kernel")))
    files += [Line("initrd", path, site.origin(*place, "initrd")) for path in loadout.initrd]
    steps = [
        Step("Boot loader", (Line(f"over {over.upper()}", boot_file(firmware, segment, ports)),)),
        Step("Loader configuration", (asked,), text),
        Step("Kernel", tuple(files)),
        Step("Command line", tuple(map(_argument, arguments)), line),
    ]
    if loadout.root:
        origin = site.origin(*place, "root")
        steps.append(
            Step(
                "Root filesystem",
                (
                    Line("root", loadout.root, origin),
                    Line("mounted as", f"{segment.server}:{export_path(loadout.root)}", None),
                    Line("option 17", nfs_root(segment, loadout.root, ports), None),
                    Line("writing", "refused: the root is read-only", None),
                ),
            )
        )
    return steps


def _argument(argument: Sourced[str]) -> Line:
    return Line("argument", argument.value, argument.origin)
