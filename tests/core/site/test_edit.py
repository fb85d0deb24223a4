"""Edits change one table and leave every other letter as it was."""

from __future__ import annotations

import tomllib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.site.edit import EditError, add, change, has_table, remove, rename
from tests.conftest import DEMO, SiteText

TEXT = SiteText("""# the head
format = 1

[group.tide]   # the room
boot = "disk"

# first of the room
[client.tide-01]  # by the door
mac = "02:61:08:00:00:01"   # on its label
group = "tide"

[client.tide-01.options]
ntp-servers = "10.61.8.1"

# second
[client.tide-02]
mac = "02:61:08:00:00:02"

[loadout.disk]
boot = "local"
""")
ONE, TWO = ("client", "tide-01"), ("client", "tide-02")

CHANGES = [
    (ONE, {"group": "lib"}, 'group = "tide"', 'group = "lib"'),
    (ONE, {"mac": "02:61:08:00:00:09"}, '"02:61:08:00:00:01"   #', '"02:61:08:00:00:09"   #'),
    (ONE, {"group": None}, 'group = "tide"\n', ""),
    (TWO, {"boot": "disk"}, '00:02"\n', '00:02"\nboot = "disk"\n'),
    (TWO, {"args": ["a", "b"], "mac": None}, 'mac = "02:61:08:00:00:02"\n', 'args = ["a", "b"]\n'),
]


@pytest.mark.parametrize(("table", "values", "old", "new"), CHANGES)
def test_change(table: tuple[str, str], values: dict[str, object], old: str, new: str) -> None:
    assert change(TEXT, table, values) == TEXT.replace(old, new, 1)


def test_a_new_key_goes_before_inner_tables() -> None:
    changed = change(TEXT, ONE, {"boot": "disk"})
    assert tomllib.loads(changed)["client"]["tide-01"]["boot"] == "disk"
    assert changed.replace('boot = "disk"\n', "", 2) == TEXT.replace('boot = "disk"\n', "", 1)


def test_add_behind_its_kind() -> None:
    added = add(TEXT, ("client", "tide-03"), {"mac": "02:61:08:00:00:03", "group": None})
    new = '\n[client.tide-03]\nmac = "02:61:08:00:00:03"\n'
    assert added == TEXT.replace('00:02"\n', '00:02"\n' + new)
    assert add("format = 1\n", TWO, {"mac": "x"}) == 'format = 1\n\n[client.tide-02]\nmac = "x"\n'
    with pytest.raises(EditError, match="there already"):
        add(TEXT, ONE, {})


def test_remove_and_rename() -> None:
    removed = remove(TEXT, ONE)
    assert "tide-01" not in removed and "# second\n[client.tide-02]" in removed
    assert tomllib.loads(removed)["client"] == {"tide-02": {"mac": "02:61:08:00:00:02"}}
    assert remove("[client.a]\nx = 1\n", ("client", "a")).strip() == ""
    renamed = rename(TEXT, ONE, "door 1")
    assert renamed == TEXT.replace("[client.tide-01", '[client."door 1"')
    with pytest.raises(EditError, match="there already"):
        rename(TEXT, ONE, "tide-02")


@pytest.mark.parametrize(
    "text", ['client.tide-01 = { mac = "x" }\n', "[client]\ntide-01.mac = 'x'\n", ""]
)
def test_tables_without_a_header_are_left_to_the_administrator(text: str) -> None:
    assert not has_table(text, ONE)
    for attempt in (lambda: change(text, ONE, {"mac": "y"}), lambda: remove(text, ONE)):
        with pytest.raises(EditError, match="by hand"):
            attempt()


NAMES = st.sampled_from(["tide-01", "tide-05", "lib-02", "buoy-6"])
VALUES = st.dictionaries(
    st.sampled_from(["group", "boot", "address", "uuid"]),
    st.none() | st.text(st.characters(exclude_categories=("Cs",)), max_size=10),
    max_size=3,
)


@given(st.lists(st.tuples(NAMES, VALUES), max_size=4))
def test_edits_do_what_they_say_and_no_more(edits: list[tuple[str, dict[str, str | None]]]) -> None:
    text, expected = str(DEMO), tomllib.loads(str(DEMO))
    for name, values in edits:
        text = change(text, ("client", name), values)
        table = expected["client"][name]
        for key, value in values.items():
            if value is None:
                table.pop(key, None)
            else:
                table[key] = value
    assert tomllib.loads(text) == expected
    comments = [line for line in DEMO.splitlines() if line.startswith("#")]
    assert [line for line in text.splitlines() if line.startswith("#")] == comments
