"""Options, menus, files of one's own, strangers: from the site file to what goes on the wire."""

from __future__ import annotations

import pytest

from daskel.core.history.events import Refused
from tests.core.boot.sites import STRANGER, TIDE, ask, site

UNKNOWN = [  # (segment's lines, MAC address, gets an address, gets a boot file, said)
    ("", STRANGER, True, False, ""),
    ('unknown = "notebook"', STRANGER, True, True, ""),
    ('unknown = "disk"', STRANGER, True, False, ""),
    ('unknown = "refuse"', STRANGER, False, False, "says refuse"),
    ('unknown = "refuse"', TIDE, True, True, ""),
    ('allow = ["02:61:ff"]', STRANGER, True, False, ""),
    ('allow = ["02-61-FE"]', STRANGER, False, False, "not in the list"),
    ('allow = ["02-61-FE"]', TIDE, True, True, ""),
    ('refuse = ["0261ff000001"]', STRANGER, False, False, "refused by daskel.toml:7:11 (02:61:ff"),
    ('refuse = ["02:61:08"]', TIDE, False, False, "refused by daskel.toml:7:11 (02:61:08)"),
]


@pytest.mark.parametrize(("lines", "mac", "address", "boots", "said"), UNKNOWN)
def test_who_is_let_in(lines: str, mac: str, address: bool, boots: bool, said: str) -> None:
    answer = ask(site(segment=lines), mac)
    assert bool(answer.reply) is address
    assert bool(answer.reply and answer.reply.file) is boots
    reasons = [event.reason for event in answer.events if isinstance(event, Refused)]
    assert (said in reasons[0]) if said else not reasons
