"""What somebody must type into another DHCP server, and the same as DNS records where there are
such: computed by the same code that answers clients where Daskel is the server."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from daskel.core.boot.address import Leases
from daskel.core.boot.firmware import written
from daskel.core.boot.wire import Ports
from daskel.core.content.unified_images import boots_by_itself
from daskel.core.dhcp import options
from daskel.core.dhcp.client_messages import Face, discover
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.pxe import ARCHITECTURES, HTTP_CLASS, is_uefi
from daskel.core.dhcp.registry import BY_CODE
from daskel.core.dhcp6.client_messages import solicit
from daskel.core.dhcp6.message import Code as Code6
from daskel.core.dhcp6.message import parse
from daskel.core.replies.answer6 import Answers6
from daskel.core.replies.options import rules
from daskel.core.replies.reply import Replies
from daskel.core.site.layers import Effective, effective
from daskel.core.site.model import Site
from daskel.core.site.positions import Origin
from daskel.core.site.tables import Segment

ALWAYS = "every machine"
# What `machines` says, what the other server has of its own, and what is made for each message.
_ITS_OWN = {Code.HOST_NAME, Code.LEASE_TIME, Code.SUBNET_MASK, Code.BROADCAST, Code.MACHINE_ID}
_FOR_THIS_REPLY = {Code.VENDOR_CLASS, Code.VENDOR_SPECIFIC}  # beside a boot file by TFTP
_NEXT_SERVER, _FILE = "next-server", "boot-file"  # fields of the message: siaddr and file


@dataclass(frozen=True, slots=True)
class Row:
    """One thing to type. `number` is None for a field of the message that is not an option."""

    condition: str  # ALWAYS, or which firmware
    number: int | None
    name: str
    type: str
    value: str
    data: bytes
    origin: Origin | None


@dataclass(frozen=True, slots=True)
class Part:
    """Rows for some clients; for all of the segment when `clients` is empty."""

    clients: tuple[str, ...]
    rows: tuple[Row, ...]


def clients_of(site: Site, segment: str) -> list[str]:
    """Names of the clients on a segment, in the order of the site."""
    found = ((name, effective(site, name)) for name in site.clients)
    return [name for name, f in found if f.segment and f.segment.value == segment]


@dataclass(frozen=True, slots=True)
class MachineKind:
    """What differs for each client: its name (option 12), and its address where it is fixed."""

    name: str
    mac: str
    address: IPv4Address | None


def machines(site: Site, clients: Sequence[str]) -> list[MachineKind]:
    """What has to be typed for each client alone."""
    found = [effective(site, name) for name in clients]
    return [MachineKind(f.name, f.mac.value, f.address.value if f.address else None) for f in found]


def handoff(site: Site, segment: str, clients: Sequence[str]) -> list[Part]:
    """What another server on `segment` must send to these clients; what all get alike first."""
    replies = Replies(site, Ports())
    return _parts(site, clients, lambda name: _rows(site, replies, segment, name))


def handoff_over_ipv6(site: Site, segment: str, clients: Sequence[str]) -> list[Part]:
    """The same for another DHCPv6 server; of a site `over_ipv6`."""
    answers = Answers6(site, Leases(), Ports())
    return _parts(site, clients, lambda name: _rows_over_ipv6(answers, segment, name))


def _parts(
    site: Site, clients: Sequence[str], rows_of: Callable[[str], Iterator[Row]]
) -> list[Part]:
    alike: defaultdict[tuple[object, ...], list[str]] = defaultdict(list)
    for name in clients:
        alike[_kind(site, name)].append(name)
    having: defaultdict[Row, list[str]] = defaultdict(list)
    for names in alike.values():
        for row in dict.fromkeys(rows_of(names[0])):
            having[row] += names
    parts: defaultdict[tuple[str, ...], list[Row]] = defaultdict(list)
    for row, names in having.items():
        parts[() if len(names) == len(clients) else tuple(names)].append(row)
    common = Part((), tuple(parts.pop((), ())))
    return [common, *(Part(names, tuple(rows)) for names, rows in parts.items())]


def _kind(site: Site, name: str) -> tuple[object, ...]:
    """What clients that get the same have in common; one that says something itself is alone."""
    client, found = site.clients[name], effective(site, name)
    templates = any("{" in file.value for layer in found.boot_files for file in layer.values())
    if client.options or client.boot_file or templates or boots_by_itself(found):
        return (name,)
    return (client.group, client.segment, client.boot, client.firmware)


def _rows(site: Site, replies: Replies, segment: str, name: str) -> Iterator[Row]:
    seen = set()
    files: defaultdict[tuple[Row, ...], list[int]] = defaultdict(list)
    mac = site.clients[name].mac
    said = written(site, name)
    for number in ARCHITECTURES if said is None else (said,):
        plan = replies.plan(
            replies.question(segment, discover(Face.of_architecture(number), mac, 1), 0.0)
        )
        for setting in plan.settings:
            if setting.code in _ITS_OWN or (plan.file.path and setting.code in _OF_FILE):
                continue
            row = _row(site, ALWAYS, setting.code, setting.value, setting.origin, setting.type)
            if row not in seen:
                seen.add(row)
                yield row
        if plan.file.path is not None:
            server = site.segments[segment].server
            file = _file_rows(site, segment, plan.file.path, server, plan.file.origin)
            files[tuple(file)].append(number)
    for file_rows, numbers in files.items():
        condition = _condition(numbers)
        for row in file_rows:
            yield Row(condition, row.number, row.name, row.type, row.value, row.data, row.origin)


def _rows_over_ipv6(answers: Answers6, segment: str, name: str) -> Iterator[Row]:
    """What firmware needs besides an address (RFC 5970 3)."""
    site, mac = answers.site, answers.site.clients[name].mac
    said = written(site, name)
    files: defaultdict[tuple[Row, ...], list[int]] = defaultdict(list)
    for number in filter(is_uefi, ARCHITECTURES if said is None else (said,)):
        asked = parse(solicit(mac, number, Face.of_architecture(number).vendor_class))
        question = answers.question(segment, asked, mac, 0.0)
        settings = answers.settings(question)
        if settings:
            origin = answers.file(question).origin
            files[tuple(_row_over_ipv6(data, origin) for data in settings)].append(number)
    for rows, numbers in files.items():
        known = (f"option 61 = {n:04x} ({ARCHITECTURES[n]})" for n in numbers)
        condition = ", ".join(known)
        yield from (replace(row, condition=condition) for row in rows)


def _row_over_ipv6(data: bytes, origin: Origin | None) -> Row:
    """An option of DHCPv6 as it is sent: code and length in front (RFC 8415 21.1)."""
    code, value = int.from_bytes(data[:2], "big"), data[4:]
    if code == Code6.VENDOR_CLASS:
        number, text = int.from_bytes(value[:4], "big"), value[6:].decode()
        shown, kind, origin = f"enterprise {number}: {text}", "class", None
    else:
        shown, kind = value.decode(), "text"
    return Row("", code, Code6(code).name.lower().replace("_", "-"), kind, shown, value, origin)


_OF_FILE = {*_FOR_THIS_REPLY, Code.BOOT_SERVER, Code.BOOT_FILE}


def _file_rows(
    site: Site, segment: str, path: str, server: IPv4Address, origin: Origin | None
) -> Iterator[Row]:
    here = site.origin("segment", segment, "server")
    if "://" in path:
        yield _row(site, "", Code.VENDOR_CLASS, HTTP_CLASS, None, None)
    else:
        yield Row("", None, _NEXT_SERVER, "address", str(server), server.packed, here)
        yield Row("", None, _FILE, "text", path, path.encode(), origin)
        yield _row(site, "", Code.BOOT_SERVER, str(server).encode(), here, None)
    yield _row(site, "", Code.BOOT_FILE, path.encode(), origin, None)


def _row(
    site: Site, condition: str, code: int, value: bytes, origin: Origin | None, kind: str | None
) -> Row:
    own = {option.code: name for name, option in site.options.items() if not option.inside}
    rule = BY_CODE.get(code)
    shown = options.show(code, value, kind)
    name = own.get(code, options.name(code))
    return Row(
        condition, code, name, kind or (rule.type if rule else "bytes"), shown, value, origin
    )


def _condition(architectures: Iterable[int]) -> str:
    """How another server recognises the firmware: the value of option 93."""
    return ", ".join(
        f"option 93 = {number:04x} ({ARCHITECTURES[number]})"
        if number in ARCHITECTURES
        else "option 60 that begins with U-Boot"
        for number in architectures
    )


# --- DNS ---

_SERVICES = {  # registered options with a service of their own: service, protocol, port
    "log-server": ("syslog", "udp", 514),
    "lpr-server": ("printer", "tcp", 515),
    "ntp-servers": ("ntp", "udp", 123),
    "smtp-server": ("smtp", "tcp", 25),
    "pop3-server": ("pop3", "tcp", 110),
    "nntp-server": ("nntp", "tcp", 119),
    "www-server": ("http", "tcp", 80),
    "irc-server": ("irc", "tcp", 194),
}


def zone(site: Site, segment: str, clients: Sequence[str]) -> list[str]:
    """Lines of a zone file (RFC 1035 section 5, SRV by RFC 2782) for the segment's domain.

    Raises ValueError with a sentence when the segment has no domain.
    """
    here = site.segments[segment]
    if here.domain is None:
        raise ValueError(f"segment {segment} has no domain; write domain = ... in it")
    addresses: dict[str, str] = {}
    services: dict[str, None] = {}
    _boot_service(here, addresses, services)
    for name in clients:
        found = effective(site, name)
        if found.address:
            addresses[name] = str(found.address.value)
        _option_services(site, found, addresses, services)
    lines = [f"$ORIGIN {here.domain}."]
    lines += [f"{name:<24} IN A    {address}" for name, address in addresses.items()]
    return [*lines, *services]


def _boot_service(here: Segment, addresses: dict[str, str], services: dict[str, None]) -> None:
    addresses["boot"] = str(here.server)
    services[_srv("tftp", "udp", Ports.tftp, "boot")] = None


def _option_services(
    site: Site, found: Effective, addresses: dict[str, str], services: dict[str, None]
) -> None:
    """SRV records of the options that say where a service is; an address gets a name first."""
    known = rules(site)
    for name, sourced in found.options.items():
        own = site.options.get(name)
        service = own.service if own else _SERVICES.get(name)
        if service is None or name not in known:
            continue
        value = sourced.value
        for index, item in enumerate(value if isinstance(value, tuple) else (value,), 1):
            host = str(item)
            try:
                address = str(IPv4Address(host))
            except ValueError:
                target = host.rstrip(".") + "."
            else:
                target = next((n for n, a in addresses.items() if a == address), f"{name}-{index}")
                addresses.setdefault(target, address)
            services[_srv(*service, target)] = None


def _srv(service: str, protocol: str, port: int, target: str) -> str:
    """Priority and weight are the same for all: 0 0."""
    return f"{f'_{service}._{protocol}':<24} IN SRV  0 0 {port} {target}"


def for_the_chain(site: Site, segment: str, clients: Sequence[str]) -> list[Part]:
    """What the other server on a segment must send to those whose signed GRUB takes its server from
    there alone."""
    names = tuple(name for name in clients if effective(site, name).secure_boot == "shim")
    server, here = site.segments[segment].server, site.origin("segment", segment, "server")
    row = Row(ALWAYS, None, _NEXT_SERVER, "address", str(server), server.packed, here)
    return [Part(names, (row,))] if names else []


def same_machine(site: Site) -> Part:
    """What a DHCP server on this very machine must send, so that firmware asks port 4011."""
    condition = "option 60 that begins with PXEClient"
    return Part((), (_row(site, condition, Code.VENDOR_CLASS, b"PXEClient", None, None),))
