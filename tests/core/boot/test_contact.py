"""First contact: both ends have one word, and whoever is between them one guess."""

from __future__ import annotations

from dataclasses import replace
from hashlib import sha256

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.boot.contact import Contact, ContactError, Contacts, word_of

SERVER, KEY = b"s" * 32, b"k" * 32
MAC = "02:61:08:00:00:01"


def contact(number: int, key: bytes = KEY, at: float = 0.0, segment: str = "tideroom") -> Contact:
    commitment, mac = sha256(key).hexdigest(), f"02:61:08:00:00:{number:02x}"
    return Contact(str(number), f"tide-{number:02}", mac, segment, commitment, "medium", "n", at)


def test_a_word_for_both() -> None:
    contacts = Contacts(SERVER)
    contacts.begin(contact(1))
    told = contacts.told("1", MAC, KEY, 1.0)
    assert told.word == word_of(KEY, SERVER, "n") and len(told.word) == 6
    assert [one.word for one in contacts.waiting(2.0)] == [told.word]
    contacts.over(told)
    assert not list(contacts.waiting(2.0))


@given(st.binary(min_size=32, max_size=32), st.binary(min_size=32, max_size=32), st.text())
def test_every_part_counts(one: bytes, other: bytes, nonce: str) -> None:
    made = word_of(one, other, nonce)
    assert len(made) == 6 and not set(made) - set("ABCDEFGHJKLMNPQRSTUVWXYZ23456789")
    assert word_of(one, other, nonce + "x") != made or word_of(one, other, nonce + "y") != made


def begun(contacts: Contacts) -> None:
    contacts.begin(contact(1))


REFUSED = {
    "another key than the committed one": lambda c: c.told("1", MAC, b"x" * 32, 1.0),
    "a key that is too short": lambda c: c.told("1", MAC, KEY[:-1], 1.0),
    "another machine's contact": lambda c: c.told("1", "02:61:08:00:00:02", KEY, 1.0),
    "an unknown contact": lambda c: c.told("2", MAC, KEY, 1.0),
    "too late": lambda c: c.told("1", MAC, KEY, 601.0),
    "a seal that no terminal should show": lambda c: c.told("1", MAC, KEY, 1.0, "\x1b[2J"),
    "a place that no terminal should show": lambda c: c.begin(replace(contact(2), place="\x1b[2J")),
    "a commitment of another kind": lambda c: c.begin(replace(contact(2), commitment="x" * 64)),
}


@pytest.mark.parametrize("case", REFUSED)
def test_what_is_refused(case: str) -> None:
    contacts = Contacts(SERVER)
    begun(contacts)
    with pytest.raises(ContactError):
        REFUSED[case](contacts)


def test_a_commitment_is_good_once() -> None:
    contacts = Contacts(SERVER)
    begun(contacts)
    with pytest.raises(ContactError):
        contacts.told("1", MAC, b"x" * 32, 1.0)
    with pytest.raises(ContactError):
        contacts.told("1", MAC, KEY, 1.0)
    begun(contacts)
    contacts.told("1", MAC, KEY, 1.0)
    with pytest.raises(ContactError):
        contacts.told("1", MAC, KEY, 1.0)


def test_a_flood_of_contacts() -> None:
    """Few are open at once in one segment, and those of another have their own; they expire."""
    contacts = Contacts(SERVER)
    for number in range(5):
        contacts.begin(contact(number))
    with pytest.raises(ContactError):
        contacts.begin(contact(9))
    contacts.begin(contact(9, segment="library"))
    contacts.begin(contact(3))  # the same machine again takes no place
    contacts.told("3", "02:61:08:00:00:03", KEY, 1.0)
    contacts.begin(contact(8))
    contacts.begin(contact(7, at=700.0))
    assert not list(contacts.waiting(700.0))
