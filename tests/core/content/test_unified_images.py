"""Machines whose firmware starts the kernel itself: who gets which boot file, and what is made of
what."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import pytest

from daskel.core.audit.checks import check_site
from daskel.core.boot.identity import settings_of
from daskel.core.boot.wire import Ports
from daskel.core.content.computed import NOT_YOURS, Content, Files, Missing
from daskel.core.content.signed_chain import CHAINS
from daskel.core.content.unified_images import AskedFor, Role, asked_for, stub_path
from daskel.core.dhcp.client_messages import Face, discover
from daskel.core.dhcp.pxe import Firmware, boot_request
from daskel.core.history.events import FileKind, Missed, Who
from daskel.core.history.once import Assignments
from daskel.core.replies.bootfile import choose_boot_file
from daskel.core.site.finding import Severity
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from tests.conftest import site_from
from tests.core.boot.sites import BASE, STRANGER, TIDE, site

X64, HTTP, ARM = Firmware("uefi-x64"), Firmware("uefi-x64-http"), Firmware("uefi-arm64")
ALL = frozenset(CHAINS)
HERE = {"signed": ALL, "stubs": ALL}
SIGNING = 'signing = { certificate = "site.pem", key = "site.key" }\n'
OWN = "loader/02-61-08-00-00-01"
NONE = 'boot = "notebook"\nloader = "none"\n'
WHO_GETS = [  # what the client says, what is here, firmware; the boot file, or what to do
    (NONE, HERE, X64, f"{OWN}.x64.efi"),
    (NONE, HERE, HTTP, f"http://10.61.8.1/{OWN}.x64.efi"),
    (NONE, HERE, ARM, f"{OWN}.aa64.efi"),
    (NONE, HERE, Firmware.BIOS, "loader/bios.img"),
    (NONE, HERE, Firmware("uefi-x86"), "loader/uefi-x86.efi"),
    (NONE, {**HERE, "stubs": frozenset()}, X64, "apt install systemd-boot-efi; then"),
    ('loader = "none"', HERE, X64, "loader/signed-x64/start.efi"),  # it has a menu
    ('boot = "disk"\nloader = "none"', HERE, X64, ""),
    (NONE + 'secure-boot = "db"', HERE, X64, f"{OWN}.x64.efi"),
    (NONE + 'secure-boot = "off"', HERE, X64, f"{OWN}.x64.efi"),
    (NONE + 'secure-boot = "mok"', HERE, X64, f"{OWN}.x64/start.efi"),
    (NONE + 'secure-boot = "mok"', HERE, HTTP, f"http://10.61.8.1/{OWN}.x64/start.efi"),
    (NONE + 'secure-boot = "mok"', {**HERE, "signed": frozenset()}, X64, "apt install shim-signed"),
    (NONE + 'secure-boot = "shim"', HERE, X64, "daskel keys enrol"),
    ('secure-boot = "mok"', HERE, X64, "loader/mok-x64/start.efi"),
    ('secure-boot = "mok"', HERE, HTTP, "let its firmware boot by PXE"),
    ('secure-boot = "mok"', {}, X64, "apt install shim-signed"),
    ('boot = "notebook"\nsecure-boot = "db"', HERE, X64, 'write loader = "none", or enrol'),
    ('loader = "none"\nsecure-boot = "db"', HERE, X64, "give it one loadout, or enrol"),
    ('loader = "none"\nsecure-boot = "mok"', HERE, X64, "loader/mok-x64/start.efi"),
]  # fmt: skip


@pytest.mark.parametrize(("client", "here", "firmware", "expected"), WHO_GETS)
def test_who_gets_what(
    client: str, here: Mapping[str, frozenset[str]], firmware: Firmware, expected: str
) -> None:
    made = replace(site(client=client), **here)  # type: ignore[arg-type]
    asked = boot_request(discover(Face.of(firmware), TIDE, 1))
    found = effective(made, "tide-01")
    file = choose_boot_file(made, Ports(), Who("tide-01", TIDE), found, "tideroom", asked)
    if expected.startswith(("loader/", "http")) or not expected:
        assert file.path == (expected or None) and not file.problem
    else:
        assert file.path is None and expected in file.remedy


X64_CHAIN, ARM_CHAIN = CHAINS["uefi-x64"], CHAINS["uefi-arm64"]


@pytest.mark.parametrize(
    ("path", "expected"),
    [
        (f"{OWN}.x64.efi", AskedFor(X64_CHAIN, Role.IMAGE, TIDE)),
        (f"{OWN}.AA64.EFI", AskedFor(ARM_CHAIN, Role.IMAGE, TIDE)),
        (f"{OWN}.x64/start.efi", AskedFor(X64_CHAIN, Role.SHIM, TIDE)),
        (f"{OWN}.x64/grubx64.efi", AskedFor(X64_CHAIN, Role.SECOND, TIDE)),
        ("loader/mok-x64/grubx64.efi", AskedFor(X64_CHAIN, Role.SECOND, None)),
        ("loader/mok-aa64/mmaa64.efi", AskedFor(ARM_CHAIN, Role.KEYS, None)),
        ("loader/mok-x64/grubaa64.efi", None),
        ("loader/mok-x64.efi", None),
        (f"{OWN}.arm64/entry-a.b.efi", AskedFor(ARM_CHAIN, Role.IMAGE, TIDE, "a.b")),
        (f"{OWN}.x64/entry-start.efi", AskedFor(X64_CHAIN, Role.IMAGE, TIDE, "start")),
        ("loader/mok-x64/entry-start.efi", None),
        (f"{OWN}.ia32.efi", None),
        ("loader/02:61:08:00:00:01.x64.efi", None),
        (f"files/{OWN}.x64.efi", None),
    ],
)
def test_paths(path: str, expected: AskedFor | None) -> None:
    assert asked_for(path) == expected


def content(made: Site, path: str, who: Who) -> Content | Missing:
    return Files(replace(made, stubs=ALL, signed=ALL), Ports()).content(
        "tideroom", path, who, "tftp"
    )


def test_what_an_image_is_made_of() -> None:
    made = site(client=NONE)
    found = content(made, f"{OWN}.x64.efi", Who("tide-01", TIDE))
    assert isinstance(found, Content) and found.parts and found.sign
    parts = found.parts
    assert [parts.stub.path, parts.kernel.path] == [stub_path(X64_CHAIN), "k"]
    assert [one.path for one in parts.initrds] == ["i"] and parts.kernel.kind is FileKind.KERNEL
    assert "quiet" in parts.line.split() and found.kind is FileKind.UNIFIED
    (told,) = found.told
    assert (told.loadout, told.kernel, told.initrd) == ("notebook", found.path, ())
    assert "clients/tide-01/k" in parts.kernel.places
    unknown = content(made, f"{OWN}.x64.efi", Who())
    assert isinstance(unknown, Content) and unknown.parts
    assert unknown.parts.kernel.places == ("k",), "what is one client's own is not for everybody"
    shim = content(made, f"{OWN}.x64/start.efi", Who("tide-01", TIDE))
    assert isinstance(shim, Content) and shim.places == (X64_CHAIN.first,) and not shim.sign
    grub = content(made, "loader/mok-x64/grubx64.efi", Who("tide-01", TIDE))
    assert isinstance(grub, Content) and grub.places == ("loader/uefi-x64.efi",)
    assert grub.sign and grub.device == "(tftp,10.61.8.1)"


def test_a_menu_starts_images() -> None:
    """Where nothing but what the key signed may be started."""
    made = site(client='loader = "none"\nsecure-boot = "mok"')
    who, path = Who("tide-01", TIDE), f"{OWN}.x64/entry-notebook.efi"
    found = content(made, path, who)
    assert isinstance(found, Content) and found.parts and found.parts.kernel.path == "k"
    assert "quiet" in found.parts.line.split() and [one.loadout for one in found.told] == [
        "notebook"
    ]
    for other in ("disk", "nobody", "start"):
        assert isinstance(content(made, f"{OWN}.x64/entry-{other}.efi", who), Missing)
    menu = content(made, f"loader/{TIDE}.cfg", who)
    assert isinstance(menu, Content) and menu.data
    text = menu.data.decode()
    asked = path.replace(".x64/", ".$grub_cpu/")
    assert f"if chainloader (http,10.61.8.1)/{asked}; then" in text and "if linux" not in text
    assert "entry-disk" not in text, "it starts from its own disk"
    for plain in ('loader = "none"', 'secure-boot = "mok"'):
        menu = content(site(client=plain), f"loader/{TIDE}.cfg", who)
        assert isinstance(menu, Content) and menu.data and b"if linux" in menu.data
        assert isinstance(content(site(client=plain), path, who), Missing)


@pytest.mark.parametrize("trusts", ["mok", "db"])
def test_a_machine_that_is_admitted_starts_again(trusts: str) -> None:
    """While it waits it has the boot loader, which starts nothing of its own there."""
    lobby = f'unknown = "lobby"\nsecure-boot = "{trusts}"\nloader = "none"'
    made = replace(site(segment=lobby), **HERE)  # type: ignore[arg-type]
    asked = boot_request(discover(Face.of(X64), STRANGER, 1))
    who = Who(None, STRANGER)
    found = settings_of(made, who, "tideroom")
    assert found
    file = choose_boot_file(made, Ports(), who, found, "tideroom", asked)
    assert file.path == {"mok": "loader/mok-x64/start.efi", "db": "loader/uefi-x64.efi"}[trusts]
    text = content(made, f"loader/{STRANGER}.cfg", who)
    assert isinstance(text, Content) and text.kind is FileKind.WAITING
    admitted = content(site(segment=lobby, client='boot = "notebook"'), f"loader/{TIDE}.cfg", Who())
    assert isinstance(admitted, Content) and admitted.data
    assert b"\nreboot\n" in admitted.data and b"linux" not in admitted.data


def test_what_there_is_no_image_of() -> None:
    for client, path, who in (
        (NONE, f"{OWN}.x64.efi", Who("tide-02", "02:61:08:00:00:02")),
        ("", f"{OWN}.x64.efi", Who("tide-01", TIDE)),  # it has a menu, and a boot loader
        (NONE, f"loader/{STRANGER.replace(':', '-')}.x64.efi", Who(None, STRANGER)),
        (NONE + 'args = ["x={{ nobody.knows }}"]', f"{OWN}.x64.efi", Who("tide-01", TIDE)),
    ):
        found = content(site(client=client), path, who)
        assert isinstance(found, Missing), path
        assert (found.why is Missed.NOT_YOURS) is (who.name == "tide-02")
        assert (found.reason == NOT_YOURS) is (who.name == "tide-02")
    private = site(client=NONE, more='[loadout.own]\nkernel = "clients/tide-02/k"\n')
    once = Assignments(private)
    once.set("tide-01", "own")
    files = Files(replace(private, stubs=ALL), Ports(), once.assigned)
    found = files.content("tideroom", f"{OWN}.x64.efi", Who("tide-01", TIDE), "http")
    assert isinstance(found, Missing) and found.why is Missed.NOT_YOURS


@pytest.mark.parametrize("trusts", ["mok", "db"])
def test_a_site_without_a_key(trusts: str) -> None:
    (error,) = (
        one for one in check_site(site(client=f'secure-boot = "{trusts}"'))
        if one.severity is Severity.ERROR and "no key" in one.problem
    )  # fmt: skip
    assert error.origin.text == f'"{trusts}"' and error.remedy == "make one: daskel keys make"
    names = ("segment", "options", "choice", "group", "client", "more")
    text = BASE.format(**dict.fromkeys(names, "") | {"client": f'secure-boot = "{trusts}"'})
    signing = site_from(text.replace("format = 1\n", f"format = 1\n[site]\n{SIGNING}"))
    assert not [one for one in check_site(signing) if "no key" in one.problem]
