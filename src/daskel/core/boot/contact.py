"""First contact: a machine that has made its key tells it, and both ends show the same word.

The machine commits to its public key (SHA-256) before it hears the server's and a number of its; so
whoever sits between them has one guess at a word of six letters for each contact, and the contacts
are few.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from hashlib import sha256
from typing import get_args

from daskel.core.site.key_types import KeyPlace

_LETTERS = "ABCDEFGHJKLMNPQRSTUVWXYZ23456789"
_HEX = frozenset("0123456789abcdef")
_LENGTH, _BITS = 6, 5
_EXPIRES, _MOST_OPEN, _MOST = 600.0, 5, 200  # seconds; of one segment before their key; of all


@dataclass(frozen=True, slots=True)
class Contact:
    """One machine's; times are seconds of a clock that is never set. `key` is its public one,
    empty until it has told it."""

    id: str
    client: str
    mac: str
    segment: str
    commitment: str  # hexadecimal
    place: str  # where the machine keeps its key
    nonce: str
    at: float
    seal: str = ""  # of a passphrase: see `Key`
    key: bytes = b""
    word: str = ""


@dataclass(frozen=True, slots=True)
class Key:
    """A client's public key (hexadecimal), admitted at `since` (seconds since 1970): of the machine
    with this MAC address, which keeps the private part in `place`. `server`: the newest of the
    server's public keys that it knows; empty: the one that it was admitted by. `at`: of several
    servers, the one that it asked last. `seal`: by which a client that keeps nothing knows the
    server again."""

    client: str
    mac: str
    public: str
    place: str
    since: float
    server: str = ""
    at: str = ""
    seal: str = ""


class ContactError(ValueError):
    """Why a contact is refused, in words."""


def word_of(client: bytes, server: bytes, nonce: str) -> str:
    """What both ends show, of their public keys and the server's number."""
    number = int.from_bytes(sha256(client + server + nonce.encode()).digest()[:4], "big") >> 2
    shifts = (_BITS * place for place in reversed(range(_LENGTH)))
    return "".join(_LETTERS[number >> shift & (1 << _BITS) - 1] for shift in shifts)


class Contacts:
    """Those that are open, and those that wait to be admitted."""

    def __init__(self, server: bytes) -> None:
        self._server = server
        self._by_id: dict[str, Contact] = {}

    def begin(self, contact: Contact) -> None:
        """A machine has committed itself to a key. Raises ContactError."""
        if len(contact.commitment) != 64 or set(contact.commitment) - _HEX:
            raise ContactError("the commitment is not a SHA-256 in hexadecimal")
        if contact.place not in get_args(KeyPlace):  # people read it
            raise ContactError("there is no such place for a key")
        self._expire(contact.at)
        for other in list(self._by_id.values()):
            if other.mac == contact.mac:
                del self._by_id[other.id]
        opened = [c for c in self._by_id.values() if c.segment == contact.segment and not c.key]
        if len(opened) >= _MOST_OPEN or len(self._by_id) >= _MOST:
            raise ContactError("too many machines make first contact at once: try again later")
        self._by_id[contact.id] = contact

    def told(self, id_: str, mac: str, key: bytes, now: float, seal: str = "") -> Contact:
        """It has told its key, once. Raises ContactError."""
        if seal and (len(seal) != 64 or set(seal) - _HEX):
            raise ContactError("the seal is not a SHA-256 in hexadecimal")
        self._expire(now)
        contact = self._by_id.get(id_)
        if contact is None or contact.mac != mac or contact.key:
            raise ContactError("this contact is over, or another machine's: begin again")
        if len(key) != 32 or sha256(key).hexdigest() != contact.commitment:
            del self._by_id[id_]
            raise ContactError("the key is not the one that was committed to: begin again")
        word = word_of(key, self._server, contact.nonce)
        found = self._by_id[id_] = replace(contact, key=key, word=word, seal=seal)
        return found

    def waiting(self, now: float) -> Iterator[Contact]:
        """Those that have told their key."""
        self._expire(now)
        return (contact for contact in list(self._by_id.values()) if contact.key)

    def over(self, contact: Contact) -> None:
        """It is admitted, or refused."""
        self._by_id.pop(contact.id, None)

    def _expire(self, now: float) -> None:
        for contact in list(self._by_id.values()):
            if now - contact.at > _EXPIRES:
                del self._by_id[contact.id]
