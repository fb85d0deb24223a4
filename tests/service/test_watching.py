"""What the live view asks for: nothing is worked out anew of boots to which nothing happened."""

from __future__ import annotations

import time
from dataclasses import replace
from ipaddress import IPv4Address

import pytest

from daskel.core.history.boots import History
from daskel.core.history.events import Addressed, FileMissing, Seen, Who
from daskel.service import watching
from daskel.service.watching import Watching

SEEN = Seen(Who(), "tideroom", "x86 BIOS", "PXEClient")
OWN = IPv4Address("10.61.8.100")
ADDRESSED = Addressed(Who(), "tideroom", OWN, 28800, "loader/bios.img", False, True)
MISSING = FileMissing(Who(), "notebook/vmlinuz", "tftp", "no such file")


def test_a_look_at_many_machines(monkeypatch: pytest.MonkeyPatch) -> None:
    history, looked, now = History(), [], time.time()

    def counted(case: watching.Case) -> list[object]:
        looked.append(case.boot.client)
        return list(diagnose(case))

    diagnose = watching.diagnose
    monkeypatch.setattr(watching, "diagnose", counted)
    people = [Who(f"tide-{n:02}", f"02:61:08:00:00:{n:02x}") for n in range(1, 6)]
    for who in people:
        history.happened(now - 60, replace(SEEN, who=who))
        history.happened(now - 59, replace(ADDRESSED, who=who))
        history.happened(now - 50, replace(MISSING, who=who))
    view = Watching(history)
    first = view.rows([], now - 100)
    assert len(looked) == 5 and {row["result"] for row in first} == {"stuck"}
    assert all("notebook/vmlinuz" in row["why"] for row in first)
    assert view.rows([], now - 100) == first and len(looked) == 5
    history.happened(now, replace(MISSING, who=people[2]))
    assert view.rows([], now - 100)[2]["result"] == "under way"
    assert looked[5:] == ["tide-03"]
    assert [row["client"] for row in view.rows([], now - 1)] == ["tide-03"]
