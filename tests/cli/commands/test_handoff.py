"""`handoff` as typed."""

from __future__ import annotations

import json
from pathlib import Path

from tests.conftest import SiteText, daskel


def test_handoff(demo_folder: Path) -> None:
    whole = json.loads(daskel("handoff", "tideroom", "--json", cwd=demo_folder).stdout)
    assert whole["dhcp"] == "full" and len(whole["machines"]) == 12
    rows = [row for part in whole["parts"] for row in part["rows"]]
    assert {
        "condition": None,
        "option": 224,
        "name": "desk-broker",
        "type": "text",
    }.items() <= next(row for row in rows if row["option"] == 224).items()
    beside = daskel("handoff", "library", cwd=demo_folder).stdout
    assert "Daskel adds all this itself" in beside and "50 58 45 43 6c 69 65 6e 74" in beside
    assert "signed GRUB" not in beside
    site = demo_folder / "daskel.toml"
    said = SiteText(site.read_text())
    site.write_text(said.replace("[client.lib-04]\n", '[client.lib-04]\nsecure-boot = "shim"\n'))
    chain = json.loads(daskel("handoff", "library", "--json", cwd=demo_folder).stdout)["parts"][-1]
    assert chain["clients"] == ["lib-04"]
    assert [(row["name"], row["value"]) for row in chain["rows"]] == [("next-server", "10.61.9.1")]
    assert "signed GRUB" in daskel("handoff", "library", cwd=demo_folder).stdout
    site.write_text(said)
    site.write_text(SiteText(site.read_text()).replace('dhcp = "proxy"', 'dhcp = "off"'))
    shown = daskel("handoff", "library", "--client", "lib-01", cwd=demo_folder).stdout
    assert "loader/uefi-x64.efi" in shown and "02:61:09:00:00:01" in shown and "lib-02" not in shown
    assert "handoff library" in daskel("explain", "lib-01", cwd=demo_folder).stdout
    records = daskel("handoff", "tideroom", "--dns", cwd=demo_folder).stdout
    assert "_desk-broker._tcp" in records and "$ORIGIN tide.skerry.example." in records
    for words, code, said in (
        (["tideromo"], 2, "did you mean tideroom?"),
        (["tideroom", "--client", "lib-01"], 2, "no client 'lib-01' on tideroom"),
        (["library", "--dns"], 1, "has no domain"),
    ):
        done = daskel("handoff", *words, cwd=demo_folder)
        assert done.returncode == code and said in done.stderr, done
