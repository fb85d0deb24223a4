"""Private roots of several servers: a client that one has admitted comes to the others."""

from __future__ import annotations

import os
import time
from pathlib import Path

from daskel.core.site.private import inner_address
from tests.conftest import site_from, until
from tests.wire.test_private import AT, CLIENT, INSIDE, SITE, pytestmark
from tests.wire.test_two_servers import DASKEL, sea
from tests.wire.test_two_servers import SITE as TWO

__all__ = ["pytestmark"]
SEVERAL = f"""{TWO}
[site.private]
interface = "dsk-{{own}}"
secret = "../private.key"
[root.notebook]
private = true
[loadout.notebook]
root = "notebook"
[client.tide-01]
mac = "02:61:08:00:00:01"
address = "10.61.8.21"
segment = "tideroom"
boot = "notebook"
"""


def test_several_servers_have_one_key(tmp_path: Path) -> None:
    """A client is admitted by one, comes to the other when that dies, and is let alone by it later;
    a revoked one is cut off by both."""
    secret, key = tmp_path / "private.key", tmp_path / "one.key"
    for file in (secret, key):
        file.write_bytes(os.urandom(32))
        file.chmod(0o600)
    own = str(inner_address(site_from(SITE.replace("{number}", "1")), AT["one"][0]))
    interface = f"dsk-m{os.getpid() % 10_000}"
    with sea(tmp_path, DASKEL, 0, "north", "south", site=SEVERAL) as made:
        net = made.net
        net.add("one")
        net.plug("tide0", "one", "eth0", AT["one"][0], "10.61.8.21/22")

        def join(outside: str) -> str:
            net.run("one", f"ip link delete {interface}", check=False)
            log = tmp_path / f"{outside}-{time.monotonic_ns()}.log"
            words = ("env", f"OUTSIDE={outside}", *CLIENT, interface, own, key)
            client = net.start("one", *words, log=log)
            until(lambda: "tunnel" in log.read_text() or client.poll() is not None, log.read_text)
            return log.read_text()

        def fetched() -> bool:
            words = ("-g", "-s", "-m", "4", "-o", "/dev/null", "-w", "%{http_code}")
            return net.run("one", "curl", *words, f"http://{INSIDE}/nothing", check=False) == "404"

        try:
            word = join("10.61.8.1").split()[1]
            assert "is admitted" in made.daskel(
                "north", "lobby", "admit", "tide-01", "--word", word
            )
            until(fetched, pause=0.5)
            until(lambda: "tide-01" in made.daskel("south", "keys", "list", "--json"), pause=0.5)
            made.kill("north")
            assert "word" not in join("10.61.8.2")
            until(fetched, pause=0.5)
            made.serve("north")
            made.wait_ready("north")
            until_quiet = time.monotonic() + 12
            while time.monotonic() < until_quiet:
                assert fetched(), "the other one took its tunnel"
                time.sleep(1)
            assert "private.key" not in made.daskel("north", "servers")
            made.daskel("north", "keys", "revoke", "tide-01", "--yes")
            until(lambda: not fetched(), pause=0.5)
        finally:
            for place, name in (("north", "dsk-north"), ("south", "dsk-south"), ("one", interface)):
                net.run(place, f"ip link delete {name}", check=False)
