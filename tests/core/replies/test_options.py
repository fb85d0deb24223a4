"""Options of the site file in replies."""

from __future__ import annotations

import pytest

from daskel.core.boot.wire import Ports
from daskel.core.dhcp.options import Code
from daskel.core.replies.answer import check_sizes
from daskel.core.replies.options import check_options
from tests.core.boot.sites import ask, site

OPTIONS: list[tuple[dict[str, str], int, bytes | None]] = [  # parts, code, value in the reply
    ({"group": 'options = { desk-broker = "b.example" }'}, 224, b"b.example"),
    ({"group": 'options = { desk-broker = "b" }', "client": 'options = { desk-broker = "c" }'}, 224, b"c"),
    ({"group": 'options = { desk-broker = "b" }', "client": "options = { desk-broker = false }"}, 224, None),
    ({"segment": 'options = { ntp-servers = "10.61.8.1" }'}, 42, bytes((10, 61, 8, 1))),
    ({"segment": 'router = "10.61.8.1"', "client": 'options = { router = "10.61.8.2" }'}, 3, bytes((10, 61, 8, 2))),
    ({"client": 'options = { host-name = "other" }'}, 12, b"other"),
    ({"client": "options = { first = \"x\", second = true }"}, 230, b"\1\1x\2\1\1"),
    ({"client": "options = { panel = 258 }"}, 43, b"\6\1\x08\xff"),  # its firmware needs this
    ({"client": 'options = { vendor-class = "mine" }'}, 60, b"PXEClient"),
]  # fmt: skip


@pytest.mark.parametrize(("parts", "code", "value"), OPTIONS)
def test_options_in_the_reply(parts: dict[str, str], code: int, value: bytes | None) -> None:
    made = site(**parts)
    assert not check_options(made)
    reply = ask(made).reply
    assert reply and reply.options.get(code) == value


def test_vendor_options_go_to_their_vendor_alone() -> None:
    made = site(client="options = { panel = 258 }")
    for vendor, expected in ((b"SkerryPanel-2", b"\7\2\1\2"), (b"other", None)):
        reply = ask(made, VENDOR_CLASS=vendor).reply
        assert reply and reply.options.get(Code.VENDOR_SPECIFIC) == expected


WRONG_OPTIONS = [
    ({"client": 'options = { desk-brokr = "b" }'}, "no option 'desk-brokr'", "did you mean desk-broker?"),
    ({"client": 'options = { zzzz = "b" }'}, "no option 'zzzz'", "[option.zzzz]"),
    ({"client": "options = { desk-broker = 3 }"}, "desk-broker (text): must be text", "correct"),
    ({"group": "options = { interface-mtu = 70000 }"}, "from 0 to 65535", "correct"),
    ({"client": "options = { lease-time = 3 }"}, "made by Daskel", "lease ="),
    ({"options": '[option.own]\ncode = 42\ntype = "text"'}, "option 42 is ntp-servers (RFC 2132", "224 to 254"),
    ({"options": '[option.own]\ncode = 224\ntype = "text"'}, "have the same code 224", "its own"),
    ({"options": '[option.own]\ncode = 3\ntype = "u8"\ninside = "bundel"'}, "no option 'bundel'", "bundle"),
    ({"options": '[option.own]\ncode = 3\ntype = "u8"\ninside = "router"'}, "no option 'router' that carries", ""),
]  # fmt: skip


@pytest.mark.parametrize(("parts", "problem", "remedy"), WRONG_OPTIONS)
def test_wrong_options(parts: dict[str, str], problem: str, remedy: str) -> None:
    (finding,) = check_options(site(**parts))
    assert problem in finding.problem and remedy in finding.remedy
    assert finding.origin.line > 6


def test_what_does_not_fit_small_messages_is_said() -> None:
    assert not check_sizes(site(), Ports())
    long = "x" * 200
    made = site(group=f'options = {{ desk-broker = "{long}", captive-portal = "{long}" }}')
    (finding,) = check_sizes(made, Ports())
    assert "576 bytes" in finding.problem and "captive-portal" in finding.problem
