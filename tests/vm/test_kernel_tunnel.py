"""Private roots where the operating system has WireGuard: a virtual machine is the server, and in a
network namespace of its own a client."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from daskel.core.site.private import inner_address
from tests.conftest import PATIENCE, site_from
from tests.image_roots import image_root
from tests.vm import test_slates
from tests.vm.test_nfsd import with_daskel
from tests.wire import private_client

pytestmark = [pytest.mark.extended, *test_slates.pytestmark]
INSIDE = """format = 1
[site]
state = "state.db"
roots = "roots"
slates = "slates"
loaders = []
[site.private]
[segment.quay]
network = "10.61.20.0/24"
server = "10.61.20.1"
interface = "clients"
dhcp = "off"
[root.notebook]
private = true
[loadout.notebook]
root = "notebook"
[client.tide-01]
mac = "02:61:08:00:00:01"
address = "10.61.20.21"
segment = "quay"
boot = "notebook"
"""
OWN = str(inner_address(site_from(INSIDE), "02:61:08:00:00:01"))
PEERS = """
import os, time
from daskel.system.host.wireguard import Peer, make
device = make("many", "fd64:6173:6b66::1/64")
device.set_up(os.urandom(32), 51999)
keys = [Peer(os.urandom(32), f"fd64:6173:6b66::{n + 2:x}", ("10.61.20.9", 51820)) for n in range(1000)]
began = time.monotonic(); device.replace(keys); many = time.monotonic() - began
began = time.monotonic(); device.replace(keys[:1]); one = time.monotonic() - began
print("GUEST peers", len(device.states()), f"{many:.2f} {one:.4f}")
"""
SCRIPT = f"""#!/bin/sh
said() {{ echo "GUEST $*"; }}
export PYTHONPATH=/opt/daskel PYTHONDONTWRITEBYTECODE=1 OUTSIDE=10.61.20.1
daskel() {{ python3 -c 'import sys; from daskel.cli.main import main; sys.exit(main())' "$@"; }}
client() {{ nsenter --net=/run/netns/c1 python3 /root/private_client.py "$@"; }}
serve() {{
  : >/srv/log
  python3 -c 'from daskel.cli.main import main; main()' serve >/srv/log 2>&1 &
  server=$!
  until grep -q ' ready ' /srv/log; do sleep 1; kill -0 $server || {{ cat /srv/log; return; }}; done
  said serves
}}
reads() {{ client read fd64:6173:6b65::1 {OWN} 2>/dev/null | grep -c fathoms; }}
mount -t tmpfs none /srv
cp -a /root/site /srv/site && cd /srv/site
ip link add clients type bridge && ip address add 10.61.20.1/24 dev clients && ip link set clients up
ip netns add c1
ip link add v1 type veth peer name eth0 address 02:61:08:00:00:01 netns c1
ip link set v1 master clients up
ip -n c1 link set eth0 up
ip -n c1 link set lo up
ip -n c1 address add 10.61.20.21/24 dev eth0
serve
head -c 32 /dev/urandom >/srv/key
client dsk-c1 {OWN} /srv/key >/srv/client 2>&1 &
until grep -q tunnel /srv/client; do sleep 1; kill -0 $! || cat /srv/client; done
said before $(timeout 5 nsenter --net=/run/netns/c1 ping -c 1 -W 2 fd64:6173:6b65::1 | grep -c time=)
daskel lobby admit tide-01 --word $(sed -n 's/word //p' /srv/client)
sleep 2
said first $(reads)
daskel keys list
said keeper $(ip -d link show daskel0 | grep -c wireguard)
kill -9 $server; sleep 1; serve
sleep 2
said again $(reads)
daskel keys revoke tide-01 --yes
said revoked $(timeout 20 nsenter --net=/run/netns/c1 ping -c 1 -W 2 fd64:6173:6b65::1 | grep -c time=)
python3 /root/peers.py
said done
"""


def test_the_operating_systems_wireguard(tmp_path: Path) -> None:
    source = Path(private_client.__file__).read_text()
    files = {"tunnel": SCRIPT, "peers.py": PEERS, "private_client.py": source}
    lab = with_daskel(tmp_path, "python3 iproute2 iputils-ping", files)
    site = tmp_path / "roots/notebook/root/site"
    (site / "files").mkdir(parents=True)
    (site / "daskel.toml").write_text(INSIDE)
    image_root(site / "roots/notebook")
    (site / "roots/notebook/marked").write_text("low-water-seven-fathoms")
    lab.daskel("root", "files", "notebook")
    inner = type(lab)(site)
    assert "Its image has" in inner.daskel("root", "seal", "notebook", "--yes")
    lab.open()
    try:
        lab.serve(tmp_path / "daskel.toml")
        machine = lab.boot("server", "02:61:08:00:00:01", "bios")
        machine.log_in()
        machine.type("/root/tunnel; poweroff")
        machine.wait_for("GUEST done")
        said = machine.console
        assert [machine.said(key) for key in ("before", "first", "again", "revoked")] == [
            "0", "1", "1", "0"
        ], said  # fmt: skip
        assert "The tunnel is the kernel's WireGuard." in said
        assert machine.said("keeper") == "1"
        assert re.match(r"1000 ", machine.said("peers")), said
        machine.process.wait(PATIENCE)
    finally:
        lab.close()
