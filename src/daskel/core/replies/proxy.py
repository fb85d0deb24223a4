"""Boot information beside another DHCP server: offers without an address, and port 4011.

PXE specification 2.1, sections 2.2 and 2.3. What clients tell the other server is heard, too: so
their addresses are known when they come for their files.
"""

from __future__ import annotations

from daskel.core.boot.address import Lease, LeaseState
from daskel.core.boot.caller import REMEMBERED
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import NOWHERE, MessageType, Packet
from daskel.core.history.events import Addressed, Event
from daskel.core.replies.reply import Question, Replies


def offer(replies: Replies, question: Question) -> Packet | None:
    """The offer without an address to firmware that wants to boot; nothing to anything else."""
    if question.boot is None or replies.plan(question).file.path is None:
        return None
    return replies.make(question, MessageType.OFFER, None)


def acknowledgement(replies: Replies, question: Question) -> Packet | None:
    """The answer on port 4011, and to an INFORM."""
    if question.boot is None or replies.plan(question).file.path is None:
        return None
    return replies.make(question, MessageType.ACK, None)


def heard(replies: Replies, question: Question) -> tuple[list[Lease], list[Event]]:
    """What a REQUEST says about the address that another server gives to its sender: a claim, which
    anybody on the wire can make in anybody's name."""
    asked = question.request.address_option(Code.REQUESTED_ADDRESS)
    address = asked or (question.request.ciaddr if question.request.ciaddr != NOWHERE else None)
    if address is None or address not in replies.site.segments[question.segment].network:
        return [], []
    architecture = question.boot.architecture if question.boot else None
    until = question.now + REMEMBERED
    lease = Lease(
        address, question.segment, str(question.who.mac), LeaseState.ELSEWHERE, until, architecture
    )
    by = question.request.address_option(Code.SERVER_ID)
    file = replies.plan(question).file.path
    event = Addressed(
        question.who, question.segment, address, 0, file, False, question.boot is not None, by
    )
    return [lease], [event]
