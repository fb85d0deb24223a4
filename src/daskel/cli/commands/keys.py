"""`daskel keys`: the site's own key, for machines with Secure Boot and for HTTPS; clients' keys for
private roots."""

from __future__ import annotations

import argparse
import datetime
from collections import Counter
from collections.abc import Callable, Mapping
from pathlib import Path

import tomlkit

from daskel.cli.commands.client_keys import list_keys, make_medium, renew_key, revoke_key
from daskel.cli.completing import names_of
from daskel.cli.editing import changing, edit, site_table
from daskel.cli.output import ExitCode, Output
from daskel.cli.root_options import verb
from daskel.cli.site import change_arguments
from daskel.core.boot.segments import servers
from daskel.core.content.unified_images import OWN_KEY
from daskel.core.site.edit import EditError
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.values import counted
from daskel.system.signing import (
    CERTIFICATE,
    KEY,
    SERVER_CERTIFICATE,
    SERVER_KEY,
    facts,
    for_machines,
    make_key,
    make_server_certificate,
    read_certificate,
)
from daskel.system.sitefile import SiteFile

EXAMPLE = (
    "daskel keys make",
    "daskel keys show",
    "daskel keys enrol mok",
    "daskel keys https",
    "daskel keys list",
    "daskel keys revoke tide-01",
    "daskel keys medium key.img",
    "daskel keys renew",
)
run = None  # each verb has its own
_FOLDER = "keys"
_NONE = "the site has no key of its own"
_AT_START = "The server reads it when it starts: end it, and start it again."

_HERE = "Take the certificate to the machine on a USB stick with a FAT file system: {file}"
_STEPS = {
    "mok": (
        "For machines that start shim, once on each (its own list of keys, MOK):",
        _HERE,
        'Write secure-boot = "mok" for them, and let one boot: shim refuses what it does not know '
        'yet. On the blue screen "Verification failed" choose OK, and press a key within ten '
        "seconds.",
        'Choose "Enroll key from disk", the stick, then the file; "Continue", "Yes", and "Reboot".',
        "A machine that runs Linux from its own disk takes it without a stick: mokutil --import "
        '{file}, a password for once, and at the next start "Enroll MOK", "Continue", "Yes".',
    ),
    "db": (
        "For machines whose firmware itself is to trust it, once on each (its list db):",
        _HERE,
        "In the firmware's settings, under Secure Boot, choose the keys by hand (often called "
        "custom mode), then db, and add the file to what is there: the makers' keys stay.",
        "A machine in setup mode, which has no keys at all, wants a platform key (PK) as well "
        "before it checks anything: the same file does.",
        'Write secure-boot = "db" and loader = "none" for them: the firmware starts the image of '
        "kernel and initrd itself, and a boot loader that it trusts would load no kernel.",
    ),
}


def arguments(parser: argparse.ArgumentParser) -> None:
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    make = verb(verbs, EXAMPLE, "make", "make a key, and write it into the site file", _make)
    change_arguments(make)
    verb(verbs, EXAMPLE, "show", "its name and fingerprint, and whom it is for", _show)
    text = "say how machines come to trust it, step by step"
    enrol = verb(verbs, EXAMPLE, "enrol", text, _enrol)
    enrol.add_argument("where", nargs="?", choices=_STEPS, help="one way (default: both)")
    text = "make a certificate for HTTPS, signed by the key, and write it into the site file"
    change_arguments(verb(verbs, EXAMPLE, "https", text, _https))
    verb(
        verbs, EXAMPLE, "list", "clients' keys for private roots, and when each was used", list_keys
    )
    text = "no longer accept a client's key: it is lost, or its machine is"
    revoke = verb(verbs, EXAMPLE, "revoke", text, revoke_key)
    client = revoke.add_argument("client", metavar="CLIENT", help="whose key")
    client.completer = names_of(["client"])  # type: ignore[attr-defined]
    change_arguments(revoke)
    text = "write a small medium for a client's key: a new file, or a device that loses what it has"
    medium = verb(verbs, EXAMPLE, "medium", text, make_medium)
    medium.add_argument("target", type=Path, metavar="TARGET", help="a new file, or /dev/sdX")
    change_arguments(medium)
    text = "change the server's key for private roots: clients are told the next one as they start"
    renew = verb(verbs, EXAMPLE, "renew", text, renew_key)
    renew.add_argument(
        "--finish",
        action="store_true",
        help="use it from now on: clients that do not know it yet do not follow it",
    )
    change_arguments(renew)


def _make(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    if file.signing:
        remedy = "take it out of [site] first, if machines are to trust another one"
        output.error(f"the site has a key already: {file.signing[1]}", remedy)
        return ExitCode.WRONG_USE
    folder = file.path.parent / _FOLDER
    name = f"{file.valid.settings.name} boot"
    value = {"certificate": f"{_FOLDER}/{CERTIFICATE}", "key": f"{_FOLDER}/{KEY}"}
    said = f"Made a key, which root alone can read, and its certificate: {folder}."

    def made() -> None:
        make_key(folder, name, datetime.datetime.now(datetime.UTC))

    return _written(args, output, file, "signing", value, said, made)


def _https(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    site = file.valid
    if not file.signing:
        output.error(_NONE, "daskel keys make")
        return ExitCode.BAD_NEWS
    if file.certificate:
        output.error(f"the site has a certificate for HTTPS already: {file.certificate[0]}")
        return ExitCode.WRONG_USE
    signing, addresses = file.signing, servers(site)
    folder = file.path.parent / _FOLDER
    own = {"certificate": f"{_FOLDER}/{SERVER_CERTIFICATE}", "key": f"{_FOLDER}/{SERVER_KEY}"}
    where = ", ".join(map(str, addresses))
    said = f"Made a certificate for {where}, signed by the site's key. Firmware that boots over "
    said += f"HTTPS is given {for_machines(signing[0])} as one that it trusts (TLS, CA)."

    def made() -> None:
        now = datetime.datetime.now(datetime.UTC)
        make_server_certificate(folder, *signing, addresses, now)

    return _written(args, output, file, "https", own, said, made)


def _written(
    args: argparse.Namespace, output: Output, file: SiteFile, key: str,
    value: Mapping[str, str], said: str, make: Callable[[], None],
) -> ExitCode:  # fmt: skip
    """Make files, and name them in [site]. With --dry-run nothing is made."""
    inline = tomlkit.inline_table()
    inline.update(value)
    try:
        target = site_table(file)
        if args.dry_run:
            would = f"Would write into {target}: {key} = {inline.as_string()}"
            output.json({"written": False, "said": would}) if output.as_json else output.print(
                would
            )
            return ExitCode.GOOD
        make()
    except EditError as error:
        output.error(str(error))
        return ExitCode.WRONG_USE
    except FileExistsError as error:
        written = f"{key} = {inline.as_string()}"
        remedy = f"if it is the site's, write {written} in [site]; else move it away"
        output.error(f"{error.filename} is there already", remedy)
        return ExitCode.WRONG_USE
    except OSError as error:
        output.error(f"{error.filename} cannot be written ({error.strerror})", "run this as root")
        return ExitCode.LACKING
    changes = [(target, changing(("site",), {key: inline}))]
    code = edit(args, output, file, changes, said, clients=(), what_next=False)
    if code is ExitCode.GOOD and not output.as_json:
        output.print(_AT_START)
    return code


def _show(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:  # noqa: ARG001
    if not file.signing:
        if output.as_json:
            output.json({"name": None})
        else:
            output.error(_NONE, "daskel keys make")
        return ExitCode.BAD_NEWS
    certificate, key = file.signing
    found, who = facts(read_certificate(certificate)), _who(file.valid)
    if output.as_json:
        output.json({
            "name": found.name, "sha256": found.fingerprint, "until": str(found.until),
            "certificate": str(certificate), "key": str(key), "clients": who,
        })  # fmt: skip
        return ExitCode.GOOD
    output.print(f"{found.name}, until {found.until}")
    output.print(f"SHA-256      {found.fingerprint}")
    output.print(f"certificate  {certificate}")
    output.print(f"key          {key}")
    for how, count in who.items():
        output.print(f"{how:<11}  {counted(count, 'client')}")
    if not who:
        output.print('nobody yet   machines that trust it get secure-boot = "mok" or "db"')
    return ExitCode.GOOD


def _who(site: Site) -> dict[str, int]:
    """How many clients trust the key, by where they have it."""
    found = Counter[str](effective(site, name).secure_boot for name in site.clients)
    return {how: found[how] for how in OWN_KEY if found[how]}


def _enrol(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    if not file.signing:
        output.error(_NONE, "daskel keys make")
        return ExitCode.BAD_NEWS
    own = for_machines(file.signing[0])
    wanted = [args.where] if args.where else list(_STEPS)
    told = {way: [step.format(file=own) for step in _STEPS[way]] for way in wanted}
    if output.as_json:
        output.json({"certificate": str(own), "steps": told})
        return ExitCode.GOOD
    for number, (title, *steps) in enumerate(told.values()):
        output.print(f"\n{title}" if number else title)
        for step, text in enumerate(steps, 1):
            output.print(f"  {step}. {text}")
    return ExitCode.GOOD
