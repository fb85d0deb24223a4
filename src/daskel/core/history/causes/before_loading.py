"""Causes before a machine loads anything: it has no address, or nobody tells it what to boot."""

from __future__ import annotations

from collections.abc import Iterator

from daskel.core.dhcp.needs import Need
from daskel.core.history.case import Blind, Case, Cause
from daskel.core.history.events import (
    FileAsked,
    FileMissing,
    FileSent,
    GivenBack,
    OtherServer,
    RawAsked,
    RawTrouble,
    Refusal,
    Refused,
    Seen,
    Service,
    Stage,
    Unanswered,
    Unfit,
    Waits,
)
from daskel.core.history.misses import searched
from daskel.core.history.outcome import GOOD, Result
from daskel.core.values import counted, show_duration


def _lobby(case: Case) -> Iterator[Cause]:
    if case.stage is Stage.LOBBY and (found := case.last(Waits)):
        problem = f"{case.who} is not in the site and waits in the lobby"
        yield Cause("lobby", problem, f"daskel lobby admit {case.boot.mac}", (found,))


def _refused(case: Case) -> Iterator[Cause]:
    if case.stage is not Stage.REFUSED or not (found := case.last(Refused)):
        return
    event = found[1]
    assert isinstance(event, Refused)
    where = event.segment or "an unknown network"
    problem = f"it asked for an address on {where} and was refused"
    if event.why is Refusal.NO_BOOT_FILE:
        problem = f"it gets no boot file on {where}"
    remedy = "change that line if the machine is meant to boot, then: daskel apply"
    if event.why in _REFUSALS:
        remedy = _REFUSALS[event.why].format(who=case.who, mac=case.boot.mac)
    yield Cause("refused", f"{problem}: {event.reason}", remedy, (found,))


_ADD = "daskel client add NAME mac={mac}, or change that line"
_REFUSALS = {  # what to do; else the line that is named is to be changed
    Refusal.NO_BOOT_FILE: "daskel explain {who} shows which boot file each kind of firmware gets",
    Refusal.NOT_IN_SITE: _ADD,
    Refusal.NOT_LISTED: _ADD,
    Refusal.UNKNOWN_NETWORK: "name its relay agent or its interface in a segment",
    Refusal.NO_ADDRESS: "make the pool of its segment larger, or its lease shorter",
    Refusal.WRONG_NETWORK: "none is needed: it asks for a new address by itself",
    Refusal.SLATE_AWAY: "start that server again; or have it begin with a fresh slate meanwhile: "
    'keep-elsewhere = "fresh" in [site]',
    Refusal.SLATE_MOVES: "wait until that is done; if it was broken off, the same command goes on",
    Refusal.NO_STORE: "see that the database of the site answers: daskel servers",
    Refusal.BY_ANOTHER: "look at the DHCP server that refused it",
}


def _other_server(case: Case) -> Iterator[Cause]:
    """It took the address of a server that says nothing of booting."""
    found = case.last(OtherServer)
    if not found or case.files or case.stage not in (Stage.SEEN, Stage.ADDRESSED, Stage.REFUSED):
        return
    event = found[1]
    assert isinstance(event, OtherServer)
    problem = f"it took the address that another DHCP server, {event.server}, gave it"
    remedy = (
        "switch that server off on this wire (daskel survey --wire finds it), or let it give the "
        'addresses: dhcp = "proxy" in the segment'
    )
    yield Cause("other-server", problem, remedy, (found,))


def _in_use(case: Case) -> Iterator[Cause]:
    found = case.last(GivenBack)
    if case.stage is not Stage.SEEN or not found:
        return
    event = found[1]
    assert isinstance(event, GivenBack)
    if event.declined:
        problem = f"somebody else has its address {event.address}"
        remedy = f"find who answers at {event.address} (ip neighbour show {event.address})"
        yield Cause("address-in-use", problem, remedy, (found,))


def _no_answer(case: Case) -> Iterator[Cause]:
    """Of a capture: nobody answered its DHCP messages."""
    found = case.last(Unanswered)
    if not found or case.result in GOOD:
        return
    event = found[1]
    assert isinstance(event, Unanswered)
    if event.what is Service.TFTP and case.after(found[0], FileAsked, FileSent, FileMissing):
        return  # it went on with other files
    if event.what is Service.DHCP and case.stage is Stage.SEEN and case.files:
        return  # it had an address before, and tries another way
    again = f", asked {event.times} times" if event.times > 1 else ""
    cause, subject, remedy = _SILENT[event.what]
    did = "did not answer" if event.server else "answered"
    how = ("refused", ": nothing listens there") if event.closed else (did, "")
    whom = str(event.server) if event.server else "nobody"
    problem = f"{whom} {how[0]} {subject.format(event.asked)}{again}{how[1]}"
    by_dhcp = event.what in (Service.DHCP, Service.REQUEST)
    rests_on = (Blind.DHCP_ANSWERS, Blind.DHCP_OPTIONS) if by_dhcp else ()
    yield Cause(cause, problem, remedy, (found,), rests_on)


_OPEN = "open that port in the firewall between them, and see that the service runs there"
_SILENT = {
    Service.DHCP: (
        "dhcp-silent", "its search for an address (DHCP DISCOVER)",
        "start a DHCP server on this wire, or see that the relay agent passes it on; "
        "daskel survey --wire shows who answers",
    ),
    Service.REQUEST: (
        "request-silent", "its request for the address {} that it had been offered",
        "see that the server that made the offer still runs and can write its leases",
    ),
    Service.PXE: (
        "pxe-port-silent", "its question for a boot file on port 4011",
        "open UDP port 4011 to the boot server, or stop the DHCP server from sending option 60 "
        "(PXEClient) without a boot file",
    ),
    Service.TFTP: (
        "tftp-blocked", "its request for {} by TFTP (UDP port 69)",
        "open UDP port 69 and the ports above 1023 between them, and see that option 66 and the "
        "next server name the boot server",
    ),
    Service.HTTP: ("http-blocked", "its request for {} by HTTP", _OPEN),
    Service.NFS: (
        "nfs-blocked", "its connection to NFS, {}",
        "open that TCP port to the server, and see that the address in nfsroot= is the right one",
    ),
    Service.PORTMAP: (
        "portmap-blocked", "its question for NFS's port, {}",
        "open port 111 to the server, or use an initrd that needs no port mapper",
    ),
}  # fmt: skip


def _not_taken(case: Case) -> Iterator[Cause]:
    found = case.last(Seen)
    if case.stage is not Stage.SEEN or case.result != Result.STUCK or not found:
        return
    if case.last(OtherServer, GivenBack, Unanswered, Unfit, RawAsked):
        return
    event = found[1]
    assert isinstance(event, Seen)
    if event.over:
        return  # it knows no DHCP
    tries = sum(1 for _ in case.boot.of(Seen))
    again = f" {tries} times" if tries > 1 else ""
    if event.offered is None:
        problem = f"it asked for an address{again} and has been offered none by Daskel"
        if event.firmware and not case.last(Refused):
            problem = "it asked, and took no address from the network's other DHCP server"
        remedy = "look at the DHCP server that gives the addresses on this network"
        rests_on = (Blind.DHCP_ANSWERS, Blind.DHCP_OPTIONS)
        yield Cause("no-offer", problem, remedy, (found,), rests_on)
        return
    problem = f"it was offered {event.offered}{again}, and never asked for it"
    relay = f"through {event.relay}, " if event.relay else ""
    remedy = (
        f"the offer does not arrive ({relay}a firewall, a VLAN), or it takes the offer of another "
        "server that Daskel cannot hear: daskel survey --wire INTERFACE"
    )
    yield Cause("offer-not-taken", problem, remedy, (found,), (Blind.DHCP_ASKED,))


def _unfit(case: Case) -> Iterator[Cause]:
    """Its firmware misses something in every reply that it got."""
    found = case.last(Unfit)
    early = case.stage in (Stage.SEEN, Stage.ADDRESSED, Stage.REFUSED)
    if not found or not early or case.result in GOOD or case.last(OtherServer, Unanswered):
        return
    if any(not searched(fetch.path) for fetch in case.files):
        return
    event = found[1]
    assert isinstance(event, Unfit)
    if event.need not in _NEEDS:
        return
    cause, missing, remedy = _NEEDS[event.need]
    who = f"{case.boot.firmware} " if case.boot.firmware else ""
    problem = f"{missing} for its {who}firmware".replace("firmware firmware", "firmware")
    tried = [fetch.path for fetch in case.files]
    if tried:
        problem += f"; it tried {tried[0]} and other names of its own, which are not there"
    # a system that came up later may have come by a reply that was not heard
    runs = any(at > found[0] and seen.system for at, seen in case.boot.of(Seen))
    rests_on = (Blind.TFTP, Blind.HTTP) if runs else ()
    yield Cause(cause, problem, remedy, (found,), rests_on)


_HANDOFF = "daskel handoff shows what that DHCP server must be told"
_NEEDS = {
    Need.BOOT_FILE: ("no-boot-file", "no reply names a boot file",
                     f"name one for this kind of firmware (option 67, or Daskel beside the other "
                     f"server); {_HANDOFF}"),
    Need.URL: ("no-url", "the boot file in the replies is not a URL, as it must be",
               f"give firmware with the class HTTPClient an http:// URL; {_HANDOFF}"),
    Need.HTTP_CLASS: ("http-class-missing", "the reply with the URL lacks option 60 (HTTPClient), "
                      "which must stand there",
                      f"send option 60 HTTPClient together with the URL; {_HANDOFF}"),
    Need.PXE_PORT: ("pxe-port-silent", "the replies say PXEClient (option 60) and not which file "
                    "to take, and nothing is heard from port 4011",
                    "answer on UDP port 4011, or send option 43 = 06 01 08 ff with the boot file, "
                    "or no option 60"),
    Need.NEXT_SERVER: ("no-next-server", "no reply names the server to fetch files from (next "
                       "server), which there must be",
                       f"set the next server (siaddr) to the boot server; {_HANDOFF}"),
}  # fmt: skip


def _raw_asked(case: Case) -> Iterator[Cause]:
    """Of a capture: it asks for a system without IP."""
    found = case.last(RawAsked)
    if not found or case.result in GOOD or case.last(Seen):
        return
    event = found[1]
    assert isinstance(event, RawAsked)
    asks = f"it asks for {event.asked} in raw Ethernet frames ({event.protocol}), without IP"
    if event.trouble in _RAW:
        cause, problem, remedy = _RAW[event.trouble]
        seconds = show_duration(round(event.seconds, 1))
        problem = problem.format(e=event, seconds=seconds, loads=counted(event.times, "time"))
        yield Cause(cause, f"{asks}; {problem}", remedy, (found,))
    elif event.trouble is RawTrouble.SILENT and case.result == Result.STUCK:
        heard = f"{counted(event.times, 'request')}, and no answer is in this capture"
        yield Cause("raw-silent", f"{asks}: {heard}", _ANSWER, (found,), (Blind.RAW,))
        if Blind.RAW in case.blind and event.times >= _OFTEN:
            heard += ", which may not show them: they go to the machine alone"
            yield Cause("raw-ethernet", f"{asks}: {heard}", _ANSWER, (found,))


LOADS_AGAIN = (
    "its load or start address is wrong, or the image is not for this machine: it runs from "
    "another place"
)
_OFTEN = 3  # requests: one that is loaded does not ask so often
_ANSWER = (
    "see that a server answers such requests on this wire: Daskel does with raw = true in the "
    "segment, and a loadout with raw = ... for the machine"
)
_RAW = {
    RawTrouble.FRAMING: (
        "raw-framing", "{e.by} answered in another framing than it asked in, or in none that can "
        "be read, and it took nothing of that",
        "let the server answer in the framing of each request, as Daskel does",
    ),
    RawTrouble.TOO_LARGE: (
        "raw-too-large", "{e.by} sent block {e.block} with {e.size} bytes, more than such machines "
        "take, and it was never acknowledged",
        "let the server send at most 1,024 bytes of an image in a message of MOP, and by RPL no "
        "larger frames than the machine says; Daskel does",
    ),
    RawTrouble.NOT_ACKNOWLEDGED: (
        "not-acknowledged", "block {e.block} of {e.by} was never acknowledged",
        "it was switched off, or the image does not fit into its memory from its load address on",
    ),
    RawTrouble.NOT_SENT: (
        "raw-not-sent", "{e.by} did not send block {e.block}, which it waited for",
        "see that the server repeats a block by itself when it is lost, since such machines do not "
        "ask for it again; Daskel does",
    ),
    RawTrouble.AGAIN: (
        "loads-again", "{e.by} loaded it, and it asked again {seconds} later ({loads})",
        LOADS_AGAIN,
    ),
}  # fmt: skip


BEFORE_LOADING = (
    _lobby,
    _refused,
    _raw_asked,
    _other_server,
    _in_use,
    _no_answer,
    _unfit,
    _not_taken,
)
