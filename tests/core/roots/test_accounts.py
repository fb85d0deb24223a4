"""Who can log in, by the files of a system."""

from __future__ import annotations

import pytest

from daskel.core.roots.accounts import login_accounts

PASSWD = """root:x:0:0:root:/root:/bin/bash
daemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin
sync:x:4:65534:sync:/bin:/bin/sync
tess:x:1000:1000::/home/tess:/bin/bash
"""
HASH = "$y$j9T$abc$0123456789012345678901234567890123456789012"


def shadow(**hashes: str) -> str:
    names = {"root": "*", "daemon": "*", "sync": "*", "tess": "!"} | hashes
    return "".join(f"{name}:{hashed}:20000:0:99999:7:::\n" for name, hashed in names.items())


CASES = [
    (shadow(), {}, [], []),
    (shadow(root="!*"), {}, [], []),
    (shadow(root=""), {}, [], ["root (no password)"]),
    (shadow(tess=HASH), {}, [], ["tess (password)"]),
    (shadow(tess="!" + HASH), {}, [], []),
    (shadow(sync=HASH, daemon=HASH), {}, [], []),
    (shadow(tess=HASH), {"tess": ""}, [], ["tess (password, SSH key)"]),
    (shadow(), {"root": ""}, [], ["root (SSH key)"]),
    (
        shadow(),
        {},
        ["ExecStart=-/sbin/agetty --autologin tess --noclear %I $TERM"],
        ["tess (by itself)"],
    ),
    (shadow(), {}, ["#ExecStart=-/sbin/agetty --autologin tess %I"], []),
]


@pytest.mark.parametrize(("shadowed", "keys", "units", "who"), CASES)
def test_who(shadowed: str, keys: dict[str, str], units: list[str], who: list[str]) -> None:
    found = login_accounts({"etc/passwd": PASSWD, "etc/shadow": shadowed}, keys, units)
    assert found is not None and [str(account) for account in found] == who


@pytest.mark.parametrize(
    "texts",
    [
        {},
        {"etc/passwd": PASSWD},
        {"etc/passwd": PASSWD, "etc/shadow": shadow(), "etc/nsswitch.conf": "passwd: files sss\n"},
    ],
)
def test_what_cannot_be_told(texts: dict[str, str]) -> None:
    assert login_accounts(texts, (), ()) is None


@pytest.mark.parametrize("names", ["passwd: files systemd\n", "# passwd: ldap\n", "hosts: dns\n"])
def test_local_sources_are_enough(names: str) -> None:
    texts = {"etc/passwd": PASSWD, "etc/shadow": shadow(), "etc/nsswitch.conf": names}
    assert login_accounts(texts, (), ()) == []


@pytest.mark.parametrize(
    "damaged", ["", "root\n::::\n", "root:x\n", "\0\0:::::::", "root:x:0:0::/:\n"]
)
def test_damaged_files(damaged: str) -> None:
    for texts in ({"etc/passwd": damaged, "etc/shadow": shadow()},
                  {"etc/passwd": PASSWD, "etc/shadow": damaged}):  # fmt: skip
        assert login_accounts(texts, (), ()) is not None
