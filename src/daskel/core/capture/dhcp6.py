"""DHCPv6 in a capture: who asked, and which address and boot file it got (RFC 8415, 5970)."""

from __future__ import annotations

from dataclasses import dataclass

from daskel.core.capture.heard import Heard
from daskel.core.capture.scope import Scope, Traffic
from daskel.core.dhcp.pxe import ARCHITECTURES
from daskel.core.dhcp6.message import Code, Message, Type, parse
from daskel.core.history.events import Address, Addressed, Seen, Service, Unanswered
from daskel.core.reader import MalformedError
from daskel.core.values import mac_text

_SERVER_PORT = 547
_TRIES = 2  # messages without an answer, before it is called silence
_EXTRA = 10.0  # seconds between the exchange that boots and a plain one of the same firmware


@dataclass
class _Asking:
    at: float
    message: Message  # SOLICIT
    times: int = 1
    answered: bool = False
    boots: bool = False  # it is firmware that asks


class Dhcp6Heard:
    """Follows the DHCPv6 messages of all machines in a capture. Machines are known by the hardware
    addresses in their identifiers, else by those of their frames."""

    def __init__(self, heard: Heard, scope: Scope) -> None:
        self._heard, self._scope = heard, scope
        self._asking: dict[str, _Asking] = {}

    def feed(self, at: float, sender: bytes, data: bytes, source: Address, port: int) -> None:
        """`sender`: of the frame; `port`: the target's."""
        try:
            message = parse(data)
        except MalformedError:
            return
        asks = port == _SERVER_PORT
        hardware = message.mac or (sender if asks else None)
        if hardware is None:
            return
        mac = mac_text(hardware)
        self._scope.seen.add(Traffic.DHCP_ASKED if asks else Traffic.DHCP_ANSWERED)
        if asks:
            self._scope.clients.add(sender)
            self._heard.asked.add(mac)
            self._heard.belongs(source, mac, sure=True)
            self._asked(at, mac, message)
        else:
            self._answered(at, mac, message)

    def finish(self) -> None:
        """Say what was never answered."""
        for mac, asking in self._asking.items():
            if not asking.answered and asking.times >= _TRIES:
                who = self._heard.who(mac)
                silence = Unanswered(who, Service.DHCP, "", None, asking.times)
                self._heard.say(asking.at, silence)

    def _asked(self, at: float, mac: str, message: Message) -> None:
        if message.type is not Type.SOLICIT:
            return
        before = self._asking.get(mac)
        boots = message.architecture is not None
        if before and not before.answered and before.boots == boots:
            before.times += 1
            before.at = at
            return
        if before and before.boots and not boots and at - before.at < _EXTRA:
            return  # firmware's plain exchange beside the one that boots
        self._asking[mac] = _Asking(at, message, boots=boots)
        number = message.architecture
        firmware = (
            f"{ARCHITECTURES.get(number, f'type {number}')}, IPv6" if number is not None else None
        )
        vendor = message.vendor_class.decode("ascii", "replace")
        system = not boots and Code.PARAMETERS in message.options
        self._heard.say(at, Seen(
            self._heard.who(mac), "", firmware, vendor, number, system=system, ipv6=True,
        ))  # fmt: skip

    def _answered(self, at: float, mac: str, message: Message) -> None:
        asking = self._asking.get(mac)
        if message.type not in (Type.ADVERTISE, Type.REPLY):
            return
        if asking:
            asking.answered = True
        if message.boot_file:
            self._heard.loaders[mac] = message.boot_file
        address = message.address
        if message.type is not Type.REPLY or address is None:
            return
        self._heard.belongs(address, mac, sure=True)
        told = self._heard.loaders.get(mac)
        boots = bool(message.boot_file) or bool(asking and asking.boots and not told)
        if asking and asking.boots and not message.boot_file and told:
            return  # firmware's plain exchange
        file = message.boot_file or None if boots else None
        who = self._heard.who(mac, address)
        self._heard.say(at, Addressed(who, "", address, message.lease, file, False, boots))
