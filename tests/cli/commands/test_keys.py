"""`keys` as typed, and what the check says of signatures."""

from __future__ import annotations

import datetime
import json
import shutil
import stat
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from daskel.core.content.signed_chain import CHAINS
from daskel.core.content.unified_images import stub_path
from daskel.core.efi.signature import signed
from daskel.core.site.finding import Severity
from daskel.system.signing import make_key
from daskel.system.site_check import load_checked
from tests.conftest import SiteText, daskel
from tests.core.efi.programs import SBAT, program, signer

SIGNING = '[site]\nsigning = { certificate = "keys/site.pem", key = "keys/site.key" }\n'
KERNEL = program((b".text", b"code" * 300))


def test_a_key_is_made_once(demo_folder: Path) -> None:
    site, keys = demo_folder / "daskel.toml", demo_folder / "keys"
    before = site.read_text()
    dry = json.loads(daskel("keys", "make", "--dry-run", "--json", cwd=demo_folder).stdout)
    assert dry["written"] is False and "signing = " in dry["said"]
    shown = daskel("keys", "make", "--dry-run", cwd=demo_folder)
    assert "signing = " in shown.stdout and site.read_text() == before and not keys.exists()
    for words in (["show"], ["enrol"], ["https"]):
        done = daskel("keys", *words, cwd=demo_folder)
        assert (done.returncode, "daskel keys make" in done.stderr) == (1, True), done
    assert json.loads(daskel("keys", "show", "--json", cwd=demo_folder).stdout) == {"name": None}
    made = daskel("keys", "make", cwd=demo_folder)
    assert made.returncode == 0 and "start it again" in made.stdout, made
    rights = {path.name: stat.S_IMODE(path.stat().st_mode) for path in keys.iterdir()}
    assert rights == {"site.key": 0o600, "site.pem": 0o644, "site.cer": 0o644}
    again = daskel("keys", "make", cwd=demo_folder)
    assert again.returncode == 2 and "has a key already" in again.stderr
    key = (keys / "site.key").read_bytes()
    site.write_text(before)
    again = daskel("keys", "make", cwd=demo_folder)
    assert again.returncode == 2 and "is there already" in again.stderr, again
    assert "signing = {" in again.stderr and (keys / "site.key").read_bytes() == key


def test_what_is_shown_of_it(demo_folder: Path) -> None:
    assert daskel("keys", "make", cwd=demo_folder).returncode == 0
    assert daskel("client", "set", "tide-01", "secure-boot=mok", cwd=demo_folder).returncode == 0
    shown = json.loads(daskel("keys", "show", "--json", cwd=demo_folder).stdout)
    words = ["openssl", "x509", "-noout", "-fingerprint", "-sha256", "-in", shown["certificate"]]
    judged = subprocess.run(words, check=True, capture_output=True, text=True).stdout
    assert judged.strip().endswith(f"={shown['sha256']}")
    assert shown["name"] == "Skerry Point boot" and shown["clients"] == {"mok": 1}
    assert shown["sha256"] in daskel("keys", "show", cwd=demo_folder).stdout
    steps = json.loads(daskel("keys", "enrol", "db", "--json", cwd=demo_folder).stdout)
    assert list(steps["steps"]) == ["db"] and Path(steps["certificate"]).exists()
    der = Path(steps["certificate"])
    before = der.read_bytes()
    der.unlink()  # as with a certificate of the administrator's own
    text = daskel("keys", "enrol", cwd=demo_folder).stdout
    assert der.read_bytes() == before
    assert "Enroll key from disk" in text and "site.cer" in text and "  1. " in text
    assert daskel("keys", "enrol", "dbx", cwd=demo_folder).returncode == 2


def test_a_certificate_for_https(demo_folder: Path) -> None:
    assert daskel("keys", "make", cwd=demo_folder).returncode == 0
    done = daskel("keys", "https", cwd=demo_folder)
    assert done.returncode == 0 and "10.61.8.1" in done.stdout, done
    words = ["openssl", "verify", "-CAfile", "site.pem", "-verify_ip", "10.61.8.1", "https.pem"]
    subprocess.run(words, cwd=demo_folder / "keys", check=True, capture_output=True)
    assert stat.S_IMODE((demo_folder / "keys/https.key").stat().st_mode) == 0o600
    assert "firmware refuses" not in daskel("check", cwd=demo_folder).stdout
    again = daskel("keys", "https", cwd=demo_folder)
    assert again.returncode == 2 and "already" in again.stderr


@pytest.mark.parametrize(
    ("damage", "said"),
    [
        (lambda keys: (keys / "site.pem").unlink(), "site.pem cannot be read"),
        (lambda keys: (keys / "site.pem").write_text("nothing"), "is not a certificate (PEM)"),
        (lambda keys: (keys / "site.key").write_text("nothing"), "is not a key (PEM)"),
        (lambda keys: (keys / "site.key").unlink(), "site.key cannot be read"),
        (lambda keys: shutil.copy(keys / "other.key", keys / "site.key"), "is not the key of"),
        (lambda keys: shutil.copy(keys / "curve.key", keys / "site.key"), "is not an RSA key"),
        (lambda keys: (keys / "site.key").chmod(0o644), "other users can read"),
    ],
)
def test_a_key_that_cannot_be_used(
    demo_folder: Path, damage: Callable[[Path], object], said: str
) -> None:
    keys, site = demo_folder / "keys", demo_folder / "daskel.toml"
    make_key(keys, "Skerry boot", datetime.datetime(2026, 11, 1, tzinfo=datetime.UTC))
    site.write_text(SiteText(site.read_text()).replace("[site]\n", SIGNING, 1))
    for words in ("rsa -out other.key", "ec -pkeyopt ec_paramgen_curve:P-256 -out curve.key"):
        kind, *rest = words.split()
        command = ["openssl", "genpkey", "-algorithm", kind, *rest]
        subprocess.run(command, cwd=keys, check=True, capture_output=True)
    assert not load_checked(site).findings
    damage(keys)
    (found,) = load_checked(site).findings
    assert said in found.problem and found.origin.text.startswith("{ certificate")
    site.write_text(SiteText(site.read_text()).replace('files = "files"', 'files = "."', 1))
    below = [one for one in load_checked(site).findings if "every machine can fetch" in one.problem]
    assert [one.severity for one in below] == [Severity.ERROR]
    mild = said.startswith("other users")
    assert found.severity is (Severity.WARNING if mild else Severity.ERROR)


@pytest.mark.parametrize(
    ("kernel", "keys", "said"),
    [
        (KERNEL, 'secure-boot = "shim"', "which nobody signed"),
        (signed(KERNEL, signer()), 'secure-boot = "shim"', ""),
        (signed(KERNEL, signer()).replace(b"code", b"kode"), 'secure-boot = "mok"', "is damaged"),
        (KERNEL, 'secure-boot = "off"', ""),
        (KERNEL, "", ""),
        (KERNEL, 'secure-boot = "mok"\nloader = "none"', ""),  # the image of it is signed
        (KERNEL, 'boot = "menu"\nsecure-boot = "mok"\nloader = "none"', ""),  # those of its menu
        (KERNEL, 'boot = "menu"\nsecure-boot = "mok"', "which nobody signed"),
        (KERNEL, 'boot-file = "own.efi"\nsecure-boot = "db"\nloader = "none"', "own.efi, which"),
        (b"\x1f\x8b\x08", 'secure-boot = "shim"', ""),  # no EFI program: that is said elsewhere
    ],
)
def test_what_secure_boot_would_refuse(
    demo_folder: Path, kernel: bytes, keys: str, said: str
) -> None:
    site = demo_folder / "daskel.toml"
    boot = "" if keys.startswith("boot = ") else 'boot = "plain"\n'
    written = f"[client.tide-01]\n{boot}{keys}\n"
    menu = '[choice.menu]\nentries = ["plain", "disk"]\ndefault = "plain"\n'
    text = SiteText(site.read_text()).replace("[client.tide-01]\n", written)
    site.write_text(text + '[loadout.plain]\nkernel = "k"\n' + menu)
    (demo_folder / "files/k").write_bytes(kernel)
    (demo_folder / "files/own.efi").write_bytes(kernel)
    problems = [found.problem for found in load_checked(site).findings]
    told = [problem for problem in problems if "Secure Boot of" in problem]
    assert len(told) == bool(said) and all(said in one and "tide-01" in one for one in told), told


VERSIONS = program((b".text", b"code" * 300), (b".sbat", SBAT))
CHAIN = CHAINS["uefi-x64"]


@pytest.mark.parametrize(
    ("path", "program", "keys", "said"),
    [
        (CHAIN.second, signed(KERNEL, signer()), 'secure-boot = "shim"', "(SBAT)"),
        (CHAIN.second, VERSIONS, 'secure-boot = "shim"', "which nobody signed"),
        (CHAIN.second, signed(VERSIONS, signer()), 'secure-boot = "shim"', ""),
        (CHAIN.goes_on_to, KERNEL, 'secure-boot = "mok"', "(SBAT)"),
        (CHAIN.goes_on_to, VERSIONS, 'secure-boot = "mok"', ""),  # it is signed as it is sent
        (stub_path(CHAIN), KERNEL, 'secure-boot = "mok"\nloader = "none"', "(SBAT)"),
        (stub_path(CHAIN), VERSIONS, 'secure-boot = "mok"\nloader = "none"', ""),
        (CHAIN.goes_on_to, KERNEL, 'secure-boot = "mok"\nfirmware = "bios"', ""),
        (CHAIN.second, KERNEL, "", ""),
    ],
)
def test_what_shim_would_refuse(
    demo_folder: Path, path: str, program: bytes, keys: str, said: str
) -> None:
    site, place = demo_folder / "daskel.toml", demo_folder / "files" / path
    written = f'[client.tide-01]\nboot = "plain"\n{keys}\n'
    text = SiteText(site.read_text()).replace("[client.tide-01]\n", written)
    site.write_text(text + '[loadout.plain]\nkernel = "k"\n')
    place.parent.mkdir(parents=True, exist_ok=True)
    place.write_bytes(program)
    problems = [found.problem for found in load_checked(site).findings]
    told = [problem for problem in problems if "shim on" in problem]
    assert len(told) == bool(said), told
    assert all(said in one and "tide-01" in one and path in one for one in told), told
