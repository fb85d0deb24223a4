"""What makes a new system one that somebody can use: an account, its language, its screen."""

from __future__ import annotations

import os
import re
import shlex
from collections.abc import Iterator
from dataclasses import dataclass, field
from importlib.resources import files
from pathlib import Path

from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.inspecting import SCREEN_UNIT
from daskel.system.roots.run_inside import run_inside

SCREEN = "screen"  # the account that shows the program, and can do nothing else
_USER = re.compile(r"[a-z_][a-z0-9_-]{0,31}")
_LOCALE = re.compile(r"[a-z]{2,3}(_[A-Z]{2})?(\.UTF-8)?(@[a-z]+)?|C\.UTF-8")
_KEYBOARD = re.compile(r"[a-z0-9_]+(,[a-z0-9_]+)*")
_ZONE = re.compile(r"[A-Za-z0-9_+-]+(/[A-Za-z0-9_+-]+)*")
_KEY = re.compile(r"(ssh-|ecdsa-|sk-)\S+ \S+.*")


@dataclass(frozen=True)
class Settled:
    """What a system is to be like. Raises ValueError with a sentence for what cannot be."""

    user: str | None = None
    password: str | None = field(default=None, repr=False)
    ssh_key: str | None = None  # a line of authorized_keys
    locale: str | None = None
    keyboard: str | None = None  # layout, as XKB calls it
    time_zone: str | None = None
    program: str | None = None  # that the screen shows

    def __post_init__(self) -> None:
        for value, pattern, what in (
            (self.user, _USER, "the name of an account; write small letters, like tess"),
            (self.ssh_key, _KEY, "a public SSH key; give the file that ends with .pub"),
            (self.locale, _LOCALE, "a locale; write one like en_GB.UTF-8"),
            (self.keyboard, _KEYBOARD, "a keyboard layout; write one like gb or de"),
            (self.time_zone, _ZONE, "a time zone; write one like Europe/Lisbon"),
        ):
            if value is not None and not pattern.fullmatch(value):
                raise ValueError(f"{value} is not {what}")
        if self.user in ("root", SCREEN):
            raise ValueError(f"{self.user} is there already; name another account")
        if self.password is not None and not self.password.isprintable():
            raise ValueError("the password has a control character in it; choose another one")
        if self.program is not None and not (self.program.strip() and self.program.isprintable()):
            raise ValueError("the program is empty, or has a line break in it; name a command")

    @property
    def packages(self) -> list[str]:
        """That this needs."""
        return [
            *(["openssh-server"] if self.ssh_key else []),
            *(["locales"] if self.locale else []),
            *(["console-setup", "keyboard-configuration"] if self.keyboard else []),
            *(["tzdata"] if self.time_zone else []),
        ]


def of_this_machine() -> Settled:
    """Locale, keyboard layout and time zone of this machine, as far as they are written."""
    locale = _value("/etc/default/locale", "LANG") or _value("/etc/locale.conf", "LANG")
    layout = _value("/etc/default/keyboard", "XKBLAYOUT") or _value("/etc/vconsole.conf", "KEYMAP")
    zone = os.path.realpath("/etc/localtime").partition("/zoneinfo/")[2]
    return Settled(
        locale=locale if locale and _LOCALE.fullmatch(locale) else None,
        keyboard=layout if layout and _KEYBOARD.fullmatch(layout) else None,
        time_zone=zone or None,
    )


def _value(path: str, key: str) -> str | None:
    """Of a file of assignments, as a shell reads it."""
    try:
        lines = Path(path).read_text(errors="replace").splitlines()
    except OSError:
        return None
    found = [line.partition("=")[2].strip().strip("\"'") for line in lines
             if line.strip().startswith(f"{key}=")]  # fmt: skip
    return found[-1] or None if found else None


def settle(tree: Path, wanted: Settled) -> None:
    """Write it into a new system. Raises MissingRequirementError."""
    for command, given in _commands(tree, wanted):
        if run_inside(tree, command, quiet=True, given=given):
            problem = f"{shlex.join(command)} failed in the new system"
            raise MissingRequirementError(problem, "build it without, and try daskel root edit")


def _commands(tree: Path, wanted: Settled) -> Iterator[tuple[list[str], bytes]]:
    """What is written, and the commands that take it up, with what they read."""
    if wanted.time_zone:
        place = tree / "usr/share/zoneinfo" / wanted.time_zone
        if not place.is_file():
            raise MissingRequirementError(f"there is no time zone {wanted.time_zone}",
                                          "write one like Europe/Lisbon")  # fmt: skip
        (tree / "etc/localtime").unlink(missing_ok=True)
        (tree / "etc/localtime").symlink_to(f"/usr/share/zoneinfo/{wanted.time_zone}")
        (tree / "etc/timezone").write_text(wanted.time_zone + "\n")
    if wanted.locale:
        locale = wanted.locale if "." in wanted.locale else f"{wanted.locale}.UTF-8"
        if locale != "C.UTF-8":
            (tree / "etc/locale.gen").write_text(f"{locale} UTF-8\n")
            yield ["locale-gen"], b""
        (tree / "etc/default/locale").write_text(f"LANG={locale}\n")
    if wanted.keyboard:
        text = f'XKBMODEL="pc105"\nXKBLAYOUT="{wanted.keyboard}"\nXKBVARIANT=""\nXKBOPTIONS=""\n'
        (tree / "etc/default/keyboard").write_text(text + 'BACKSPACE="guess"\n')
    if wanted.user:
        yield ["useradd", "--create-home", "--shell", "/bin/bash", wanted.user], b""
        if wanted.password:
            yield ["chpasswd"], f"{wanted.user}:{wanted.password}\n".encode()
        if wanted.ssh_key:
            folder = f"/home/{wanted.user}/.ssh"
            (tree / folder.lstrip("/")).mkdir(mode=0o700)
            (tree / folder.lstrip("/") / "authorized_keys").write_text(wanted.ssh_key + "\n")
            yield ["chown", "-R", f"{wanted.user}:{wanted.user}", folder], b""
    if wanted.program:
        yield from _screen(tree, wanted.program)


def _screen(tree: Path, program: str) -> Iterator[tuple[list[str], bytes]]:
    """An account that shows one program, started again when it ends; no console to log in at."""
    yield ["useradd", "--create-home", "--shell", "/usr/sbin/nologin", "--groups", "video,input",
           SCREEN], b""  # fmt: skip
    shipped = files("daskel.system.roots").joinpath("screen")
    for name, place, mode in (
        (SCREEN_UNIT, f"etc/systemd/system/{SCREEN_UNIT}", 0o644),
        ("start", "usr/local/lib/daskel/screen", 0o755),
        ("xorg.conf", "etc/X11/xorg.conf.d/50-daskel.conf", 0o644),
    ):
        target = tree / place
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(shipped.joinpath(name).read_text())
        target.chmod(mode)
    (tree / "etc/daskel").mkdir(exist_ok=True)
    (tree / "etc/daskel/screen").write_text(program + "\n")
    yield ["systemctl", "mask", "getty@tty1.service", "autovt@.service"], b""
    yield ["systemctl", "enable", SCREEN_UNIT], b""
    yield ["systemctl", "set-default", "graphical.target"], b""
