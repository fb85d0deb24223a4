"""From a firmware's first packet to the running kernel, in the same virtual machine: by GRUB over
TFTP and over HTTP, and without a boot loader; without and with a millisecond on the wire.

Needs root, QEMU and its firmware, and what the tests of virtual machines fetch. `--runs N`."""

from __future__ import annotations

import argparse
import hashlib
import json
import shutil
import statistics
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from common import shown

from daskel.rehearse import machine
from daskel.system.signing import load_signer, make_key
from tests.conftest import until
from tests.vm import guest
from tests.vm.lab import NOTEBOOK, TIDEROOM, Lab

SITE = TIDEROOM + NOTEBOOK
DELAY = 1000  # microseconds, in each direction
LIMIT = 600.0  # seconds


@dataclass(frozen=True)
class Way:
    """How a machine's kernel comes; the first one of its firmware is what the others are compared
    with."""

    name: str
    firmware: str
    keys: str


WAYS = (
    Way("BIOS, GRUB over TFTP", "bios", 'fetch = "tftp"'),
    Way("BIOS, GRUB over HTTP", "bios", ""),
    Way("UEFI, GRUB over TFTP", "uefi-x64", 'fetch = "tftp"'),
    Way("UEFI, GRUB over HTTP", "uefi-x64", ""),
    Way("UEFI, no boot loader, TFTP", "uefi-x64", 'loader = "none"'),
    Way("UEFI HTTP boot, GRUB", "uefi-x64-http", ""),
    Way("UEFI HTTP boot, no boot loader", "uefi-x64-http", 'loader = "none"'),
)


def name_of(number: int) -> str:
    return f"tide-{number:02}"


def mac_of(number: int) -> str:
    return f"02:61:08:00:00:{number:02}"


def lab(folder: Path) -> Lab:
    tables = (
        f'[client.{name_of(n)}]\nmac = "{mac_of(n)}"\ngroup = "tide"\n{way.keys}\n'
        for n, way in enumerate(WAYS, 1)
    )
    (folder / "daskel.toml").write_text(SITE + "".join(tables))
    (folder / "files/notebook").mkdir(parents=True)
    shutil.copy(guest.kernel(), folder / "files/notebook/vmlinuz")
    guest.write_initrd(folder / "files/notebook/initrd.img")
    guest.write_root(folder / "roots/notebook", "hello", b"x" * 100)
    guest.stub(folder / "files")
    return Lab(folder)


def times(room: Lab, number: int, delay: bool) -> tuple[float, float]:
    """Seconds from its first packet to that of its system, and those in which kernel and initrd
    came."""
    name, way = name_of(number), WAYS[number - 1]
    slow = f"filter-buffer,id=delay,netdev=net,queue=all,interval={DELAY}"
    words = ["-object", slow] if delay else []
    made = machine.switch_on(
        room.network, room.folder, name, mac_of(number), way.firmware, more=words
    )
    began = time.time()

    def events() -> list[list[Any]]:
        assert time.time() < began + LIMIT and made.runs, made.console
        told = json.loads(room.daskel("boots", "list", "--json"))
        if not any(one["client"] == name and one["began"] >= began for one in told):
            return []
        found: list[list[Any]] = json.loads(room.daskel("boots", "show", name, "--json"))["events"]
        return found if any(_is(e, "seen", firmware=None) for _, e in found) else []

    found = until(events, made.log.read_text, 1.0)
    made.process.terminate()
    made.process.wait()
    first = next(at for at, event in found if _is(event, "seen"))
    system = next(at for at, event in found if _is(event, "seen", firmware=None))
    return system - first, sum(_loading(found))


def _is(event: dict[str, Any], name: str, **fields: object) -> bool:
    return event["event"] == name and all(event.get(k) == v for k, v in fields.items())


def _loading(events: list[list[Any]]) -> Iterator[float]:
    for _, event in events:
        if _is(event, "file-sent") and event["kind"] in ("kernel", "initrd", "unified image"):
            yield event["seconds"]


def say_signing() -> None:
    """What a machine adds to an image whose hash is known."""
    with tempfile.TemporaryDirectory(prefix="daskel-bench-") as folder:
        import datetime

        make_key(Path(folder), "Skerry boot", datetime.datetime.now(datetime.UTC))
        signer = load_signer(Path(folder) / "site.pem", Path(folder) / "site.key")
    whole, own, count = hashlib.sha256(bytes(1 << 20)), bytes(4096), 200
    began = time.process_time()
    for _ in range(count):
        found = whole.copy()
        found.update(own)
        signer.table(found.digest())
    print(f"signing one machine's image: {(time.process_time() - began) / count * 1e3:.2f} ms")


def main() -> None:
    parser = argparse.ArgumentParser(description=(__doc__ or "").split("\n")[0])
    parser.add_argument("--runs", type=int, default=3)
    runs = parser.parse_args().runs
    say_signing()
    with tempfile.TemporaryDirectory(prefix="daskel-bench-") as folder:
        room = lab(Path(folder))
        room.open()
        try:
            room.serve(Path(folder) / "daskel.toml")
            for delay in (False, True):
                print("with a millisecond in each direction" if delay else "without delay")
                say(room, delay, runs)
        finally:
            room.close()


def say(room: Lab, delay: bool, runs: int) -> None:
    """Each way in turn, several times."""
    found: dict[int, list[tuple[float, float]]] = {n: [] for n in range(1, len(WAYS) + 1)}
    for _ in range(runs):
        for number in found:
            found[number].append(times(room, number, delay))
    first: dict[str, list[tuple[float, float]]] = {}
    for number, pairs in found.items():
        way = WAYS[number - 1]
        base = first.setdefault(way.firmware, pairs)
        whole, loading = (statistics.median(column) for column in zip(*pairs, strict=True))
        faster = [
            [theirs[part] / own[part] for theirs, own in zip(base, pairs, strict=True)]
            for part in (0, 1)
        ]
        print(f"  {way.name:<32}{whole:7.1f} s, {loading:6.1f} of them kernel and initrd")
        if pairs is not base:
            print(f"    times faster, whole    {shown(faster[0]).strip()}")
            print(f"    times faster, loading  {shown(faster[1]).strip()}")


if __name__ == "__main__":
    main()
