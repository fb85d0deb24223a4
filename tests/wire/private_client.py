"""A client with a private root, without its kernel: `private_client.py INTERFACE OWN KEY` makes first
contact, prints its word, and has a tunnel until it is ended. KEY: a file with its private key.
`private_client.py read SERVER OWN` reads a file of its root; `next KEY` asks through the tunnel for
the server's next key, and says that it has it; `replay PCAP` sends each first message of a tunnel
once more, from this machine."""

from __future__ import annotations

import os
import signal
import socket
import sys
from base64 import b64decode, b64encode
from hashlib import sha256
from ipaddress import IPv4Address, ip_address
from pathlib import Path
from typing import cast
from urllib.request import urlopen

from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey

from daskel.core.boot.contact import word_of
from daskel.core.boot.wire import Ports, Wire
from daskel.rehearse.fetch import NfsRoot
from daskel.system.captures import read_frames
from daskel.system.host.wireguard import Peer, make

OUTSIDE, INSIDE = os.environ.get("OUTSIDE", "10.61.8.1"), "fd64:6173:6b65::1"


def ask(what: str, at: str = OUTSIDE, **told: str) -> dict[str, str]:
    body = "".join(f"{key}={value}\n" for key, value in told.items()).encode()
    with urlopen(f"http://{at}/daskel/private/{what}", body, timeout=10) as answer:
        pairs = (line.partition("=") for line in answer.read().decode().splitlines())
        return {key: value for key, _, value in pairs}


def main(interface: str, own: str, file: str) -> None:
    key = X25519PrivateKey.from_private_bytes(Path(file).read_bytes())
    public = key.public_key().public_bytes_raw()
    text = b64encode(public).decode()
    told = ask("known", key=text)
    if told["state"] == "unknown":
        told = ask("contact", commitment=sha256(public).hexdigest(), place="medium")
        ask("key", id=told["id"], key=text)
        print("word", word_of(public, b64decode(told["server"]), told["nonce"]), flush=True)  # noqa: T201
    device = make(interface, f"{own}/64")
    device.set_up(key.private_bytes_raw(), 51820)
    device.replace([Peer(b64decode(told["server"]), INSIDE, (OUTSIDE, 51820))])
    print("tunnel", flush=True)  # noqa: T201
    signal.pause()


def read(server: str, own: str) -> None:
    """A file of the root over NFS, as the server of this address gives it."""
    where, me = (cast(IPv4Address, ip_address(one)) for one in (server, own))
    root = NfsRoot(Wire(Ports()), me, where, "/roots/notebook")
    handle = root.resolve("/marked")
    print((root.read_file(handle or b"") or b"").decode())  # noqa: T201


def learn(file: str) -> None:
    key = X25519PrivateKey.from_private_bytes(Path(file).read_bytes())
    text = b64encode(key.public_key().public_bytes_raw()).decode()
    found = ask("known", f"[{INSIDE}]", key=text)["next"]
    ask("known", f"[{INSIDE}]", key=text, next=found)
    print(found)  # noqa: T201


def replay(pcap: str) -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.bind(("0.0.0.0", 51820))
        sock.settimeout(2)
        for _, frame in read_frames(Path(pcap)):
            if frame[23] == 17 and frame[36:38] == b"\xca\x6c" and frame[42:46] == b"\1\0\0\0":
                sock.sendto(frame[42:], (OUTSIDE, 51820))
        try:
            print("answered", len(sock.recv(2000)))  # noqa: T201
        except TimeoutError:
            print("silent")  # noqa: T201


if __name__ == "__main__":
    what = {"read": read, "next": learn, "replay": replay}.get(sys.argv[1])
    what(*sys.argv[2:]) if what else main(*sys.argv[1:])
