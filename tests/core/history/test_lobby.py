"""Machines that are not in the site: they wait, are bounded in number, and leave room in the pool."""

from __future__ import annotations

from ipaddress import IPv4Address
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from daskel.core.boot.wire import Ports
from daskel.core.content.computed import Content, Files
from daskel.core.dhcp.client_messages import discover
from daskel.core.dhcp.packet import MessageType
from daskel.core.history.events import FileKind, Refused, Seen, Who
from daskel.core.history.lobby import MOST, Lobby
from daskel.store.database import Store
from daskel.store.reading import read_lobby
from tests.conftest import DEMO, site_from
from tests.core.replies.test_answer import BIOS, STRANGER, SYSTEM, answers, ask, take

LOBBY = DEMO.replace('lease = "8h"', 'lease = "8h"\nunknown = "lobby"', 1)


def seen(number: int, firmware: str | None = "x86 BIOS") -> Seen:
    mac = f"02:61:ff:00:{number >> 8:02x}:{number & 255:02x}"
    return Seen(Who(None, mac), "tideroom", firmware, "PXEClient", 0, "")


def test_a_stranger_is_told_to_wait() -> None:
    who = answers(site_from(LOBBY))
    reply = ask(who, discover(BIOS, STRANGER, 1)).reply
    assert reply and reply.file == b"loader/bios.img" and reply.siaddr == IPv4Address("10.61.8.1")
    files = Files(who.site, Ports())
    address = Who(None, STRANGER, IPv4Address("10.61.8.150"))
    screen = files.content("tideroom", f"loader/{STRANGER}.cfg", address, "tftp")
    assert isinstance(screen, Content) and screen.kind is FileKind.WAITING and screen.data
    assert STRANGER.encode() in screen.data and b"10.61.8.150" in screen.data

    def asks(text: str, *, away: bool = False) -> Content:
        made = Files(site_from(text), Ports())
        made.away = away
        found = made.content("tideroom", f"loader/{STRANGER}.admitted", address, "tftp")
        assert isinstance(found, Content) and found.quiet
        return found

    waits = b'if [ "$away" = yes ]; then echo "The store answers again."; set away=; fi\n'
    assert asks(LOBBY).data == waits
    assert b"nobody can be admitted" in asks(LOBBY, away=True).data
    admitted = f'{LOBBY}\n[client.new]\nmac = "{STRANGER}"\ngroup = "tide"\n'
    assert asks(admitted).data == b"set admitted=yes\n"
    assert asks(admitted.replace('group = "tide"', 'segment = "tideroom"')).data == waits


def test_strangers_leave_half_of_the_pool() -> None:
    small = LOBBY.replace("10.61.8.100 - 10.61.8.199", "10.61.8.100 - 10.61.8.109")
    who = answers(site_from(small))
    for number in range(5):
        take(who, f"02:61:ff:00:00:{number:02x}")
    assert take(who, "02:61:ff:00:00:00", 1.0), "those who have one keep it"
    refused = ask(who, discover(BIOS, "02:61:ff:00:00:99", 1), 2.0)
    assert refused.reply is None
    assert [e for e in refused.events if isinstance(e, Refused) and "half of the pool" in e.reason]
    for number in (10, 11, 12):
        offer = ask(who, discover(SYSTEM, f"02:61:08:00:00:{number:02x}", 1), 2.0).reply
        assert offer and offer.message_type is MessageType.OFFER


def test_what_is_remembered() -> None:
    lobby = Lobby()
    lobby.see(seen(1), 10.0)
    lobby.see(seen(1), 20.0)
    lobby.see(seen(2, None), 20.0)  # does not want to boot
    lobby.see(Seen(Who("tide-01", "02:61:08:00:00:01"), "tideroom", "x86 BIOS", "", 0, ""), 20.0)
    (one,) = lobby
    assert (one.mac, one.first, one.last, one.times) == ("02:61:ff:00:00:01", 10.0, 20.0, 2)
    assert lobby.unkept() == [one] and not lobby.unkept()
    lobby.forget([one.mac])
    assert not list(lobby)


@given(st.lists(st.integers(0, 2000), max_size=30))
def test_a_flood_pushes_out_only_those_seen_once(often: list[int]) -> None:
    lobby = Lobby()
    for number in set(often):
        lobby.see(seen(number), 1.0)
        lobby.see(seen(number), 2.0)
    for number in range(3000, 3000 + MOST + 50):
        lobby.see(seen(number), 3.0)
    there = {sighting.mac for sighting in lobby}
    assert len(there) == MOST
    assert {f"02:61:ff:00:{n >> 8:02x}:{n & 255:02x}" for n in often} <= there


def test_the_store_keeps_no_more_than_the_lobby(tmp_path: Path) -> None:
    store, lobby = Store(tmp_path / "state.db"), Lobby()
    for number in range(MOST):
        lobby.see(seen(number), float(number))
    store.keep_sightings(lobby.unkept())
    for number in range(MOST, MOST + 20):
        lobby.see(seen(number), float(number))
    store.keep_sightings(lobby.unkept(), ["02:61:ff:00:01:00"])
    kept = read_lobby(tmp_path / "state.db")
    assert MOST - 1 <= len(kept) <= MOST and kept[0].last == MOST + 19
    assert "02:61:ff:00:01:00" not in {sighting.mac for sighting in kept}
    assert len(list(store.lobby())) == len(kept)
    store.close()
