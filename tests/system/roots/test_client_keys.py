"""Where a client keeps its key, by the script of its initrd: what is damaged is told, and read no
further. In a mount namespace of its own, with a medium and UEFI variables that are files."""

from __future__ import annotations

import os
import random
import subprocess
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path

import pytest

from daskel.core.boot.key_medium import image

CI = "CI" in os.environ  # there a missing permission is a failure
pytestmark = pytest.mark.skipif(os.geteuid() != 0 and not CI, reason="namespaces need root")
SCRIPT = files("daskel.system.roots").joinpath("client/daskel.pl")
ROOM = """set -e
mount -t tmpfs none /sys/firmware
mkdir -p /sys/firmware/efi/efivars
touch /sys/firmware/efi/efivars/Other
mount -t tmpfs none /sys/class
mkdir -p /sys/class/block/vdz
mount -t tmpfs none /dev
mknod /dev/null c 1 3
exec timeout 100 perl "$0" "$@"
"""
# Prints for each medium, or variable, the parts of its key, or what is wrong with it
PROGRAM = r"""
my ($script, $what, @paths) = @ARGV;
open(my $s, '<', $script); my $text = join '', <$s>; close $s;
$text =~ s/\nmy \$what = shift \@ARGV;.*//s;
eval $text . q{
  if ($what eq 'follows') {
    my %key = (none => '', zero => $NO_KEY, one => 'S' x 32, two => 'N' x 32, short => 'N');
    for my $case (@paths) { print follows(map { $key{$_} } split /,/, $case) ? 'yes' : 'no', "\n" }
    exit 0;
  }
  my %place = (medium => '/dev/vdz', variable => $VARIABLE);
  for my $path (@paths) {
    system('cp', $path, $place{$what});
    my @found = eval { $FROM{$what}->() };
    my $why = $@; $why =~ s/\n.*//s;
    print @found ? join(' ', map { substr $_, 0, 4 } @found) : $why || 'none', "\n";
    $TO{$what}->('K' x 32 . 'S' x 32 . 'N' x 32) if $path =~ /write/;
    print join(' ', map { substr $_, 0, 4 } $FROM{$what}->()), "\n" if $path =~ /write/;
  }
  1
} or die $@;
"""


def asked(folder: Path, what: str, contents: Sequence[tuple[str, bytes]]) -> list[str]:
    for name, data in contents:
        (folder / name).write_bytes(data)
    return said(folder, what, *(str(folder / name) for name, _ in contents))


def said(folder: Path, what: str, *paths: str) -> list[str]:
    (folder / "room.pl").write_text(PROGRAM)
    words = ["unshare", "--mount", "sh", "-c", ROOM, folder / "room.pl", SCRIPT, what, *paths]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    return done.stdout.splitlines()


def test_a_medium(tmp_path: Path) -> None:
    plain, at = image(), 512 + 2 * 6 * 512  # the folder, behind the FATs
    empty = bytearray(plain)
    empty[at + 32 + 28 : at + 32 + 32] = bytes(4)
    broken = plain[:11] + bytes(2) + plain[13:]
    gone = plain.replace(b"KEY        ", b"KEYS       ")
    cases = [
        ("write", plain), ("empty", bytes(empty)), ("broken", broken), ("gone", gone),
        ("cut", plain[:100]), ("nothing", bytes(4096)),
    ]  # fmt: skip
    found = asked(tmp_path, "medium", cases)
    assert found[:2] == ["none", "KKKK SSSS NNNN"]
    assert "is empty" in found[2] and "damaged file system" in found[3] and "no file" in found[4]
    assert found[5:] == ["none", "none"]


def test_a_medium_that_somebody_has_made_up(tmp_path: Path) -> None:
    """Whatever its numbers say, the script comes to an end, and to no key."""
    chance, plain, cases = random.Random(8), image(), []
    for number in range(200):
        data = bytearray(plain)
        for _ in range(chance.randrange(1, 6)):
            data[chance.choice([*range(11, 62), *range(6656, 6720)])] = chance.randrange(256)
        data[510:512] = b"\x55\xaa"
        cases.append((f"made-{number}", bytes(data)))
    found = asked(tmp_path, "medium", cases)
    assert len(found) == len(cases)
    assert {line if line == "none" else line.partition(":")[0] for line in found} <= {"none", "key"}
    assert len(set(found)) > 2, "all were alike"


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b"\7\0\0\0" + b"K" * 32 + b"S" * 32 + b"N" * 32, "KKKK SSSS NNNN"),
        (b"\7\0\0\0" + b"K" * 32 + b"S" * 32, "KKKK SSSS \0\0\0\0"),
        (b"\7\0\0\0" + b"K" * 31, "has 35 bytes, not 100"),
        (b"\7\0\0\0" + b"K" * 5000, "has 4096 bytes, not 100"),
    ],
)
def test_a_variable(tmp_path: Path, data: bytes, said: str) -> None:
    (found,) = asked(tmp_path, "variable", [("one", data)])
    assert said in found


def test_which_server_is_followed(tmp_path: Path) -> None:
    """Server that it was admitted by, the next one that it was told, the one that answers."""
    cases = {
        "none,zero,one": "yes", "one,two,two": "yes", "one,zero,two": "no", "one,two,zero": "no",
        "one,zero,zero": "no", "none,zero,zero": "no", "none,zero,short": "no",
    }  # fmt: skip
    assert dict(zip(cases, said(tmp_path, "follows", *cases), strict=True)) == cases
