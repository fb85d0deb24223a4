"""A large site: replies do not get slower with the number of clients, and commands stay quick.

Replies: the whole way from a DISCOVER's bytes to the offer's, with 5,000 clients against 10.
Commands: as whole processes on 5,000 clients, against the same command on 10.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

from common import RUNS, at_most, compare, small

from daskel.core.boot.address import Leases
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.client_messages import Face, discover
from daskel.core.dhcp.packet import parse as parse_packet
from daskel.core.dhcp.packet import serialise
from daskel.core.dhcp.pxe import Firmware
from daskel.core.replies.answer import Answers
from daskel.core.site.parse import parse
from daskel.demo.data import lay_out

GOALS = {"check": 0.5, "explain": 0.2}  # seconds
FEW, MANY, ROUNDS = 10, small(5000), small(3000)


def text(count: int) -> str:
    """The demo site with `count` clients in a wider tideroom."""
    with tempfile.TemporaryDirectory() as folder:
        site = lay_out(Path(folder)).read_text().split("[client.")[0]
    site = site.replace('"10.61.8.100 - 10.61.8.199"', '"10.61.128.1 - 10.61.255.254"')
    site = site.replace("10.61.8.0/24", "10.61.0.0/16")
    site = site.replace("10.61.9.", "10.62.9.").replace("10.61.10.", "10.63.10.")
    return site + "".join(
        f'[client.tide-{n:04}]\nmac = "{mac(n)}"\ngroup = "tide"\n'
        f'address = "10.61.{32 + (n >> 8)}.{n & 255}"\n\n'
        for n in range(1, count + 1)
    )


def mac(number: int) -> str:
    return f"02:61:08:00:{number >> 8:02x}:{number & 255:02x}"


def answers(count: int) -> Answers:
    site = parse(text(count), "daskel.toml").site
    assert site
    return Answers(site, Leases(), Ports())


def replies(made: Answers, count: int) -> float:
    """Replies per second."""
    face = Face.of(Firmware.BIOS)
    asked = [serialise(discover(face, mac(n % count + 1), n))[0] for n in range(ROUNDS)]
    began = time.perf_counter()
    for data in asked:
        request = parse_packet(data)
        answer = made.dhcp("tideroom", request, 0.0, unicast=False)
        assert answer.reply
        serialise(answer.reply, request.limit)
    return ROUNDS / (time.perf_counter() - began)


def command(folder: Path, *words: str) -> float:
    """Seconds, the best of some runs."""
    line = [sys.executable, "-m", "daskel", *words, "--site", str(folder / "daskel.toml")]
    took = []
    for _ in range(RUNS):
        began = time.perf_counter()
        subprocess.run(line, capture_output=True, check=True)
        took.append(time.perf_counter() - began)
    return min(took)


def main() -> None:
    many, few = answers(MANY), answers(FEW)
    title = f"DHCP replies, {MANY} clients in the site against {FEW}"
    compare(
        title,
        "replies/s",
        lambda: replies(many, MANY),
        (f"{FEW} clients", lambda: replies(few, FEW)),
    )
    with tempfile.TemporaryDirectory() as name:
        folders = {count: Path(name, str(count)) for count in (FEW, MANY)}
        for count, folder in folders.items():
            folder.mkdir()
            lay_out(folder)
            (folder / "daskel.toml").write_text(text(count))
        print(f"commands, {MANY} clients and {FEW}, best of {RUNS} runs")
        for words in (
            ["check"],
            ["explain", "tide-0007"],
            ["client", "set", "tide-0007", "uuid=x"],
        ):
            slow, quick = (command(folders[count], *words) for count in (MANY, FEW))
            print(f"  {words[0]:<8} {slow:6.2f} s {quick:6.2f} s   difference {slow - quick:.2f} s")
            title = f"`{words[0]}` on {MANY} clients, more than on {FEW}"
            at_most(title, "s", [slow - quick], GOALS.get(words[0]))


if __name__ == "__main__":
    main()
