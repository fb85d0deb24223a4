"""WireGuard on this machine: the kernel's own, else the program wireguard-go, which is slower."""

from __future__ import annotations

import errno
import os
import shutil
import socket
import subprocess
import time
from base64 import b64decode, b64encode
from collections.abc import Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

from daskel.system.requirements import MissingRequirementError

KEEPALIVE = 25  # seconds
MTU = 1420
_SOCKETS = Path("/var/run/wireguard")
_PATIENCE = 5.0  # seconds until the program has made its interface
_LARGEST = 1 << 24  # bytes of an answer
KERNEL, PROGRAM = "the kernel's WireGuard", "wireguard-go"


@dataclass(frozen=True, slots=True)
class Peer:
    """One client: its public key, its address inside, and where it is outside."""

    public: bytes
    inside: str
    endpoint: tuple[str, int] | None = None


@dataclass(frozen=True, slots=True)
class PeerState:
    """What is known of one: the last handshake in seconds since 1970, 0 for none."""

    public: bytes
    handshake: float
    received: int  # bytes
    sent: int


class Device(Protocol):
    """An interface that is there."""

    kind: str

    def set_up(self, private: bytes, port: int) -> None:
        """With this key, on this port, and no peer."""

    def replace(self, peers: Sequence[Peer]) -> None:
        """Each taken away and added anew: a client whose clock went back begins from nothing."""

    def remove(self, public: bytes) -> None:
        """It is heard no more."""

    def states(self) -> list[PeerState]:
        """All peers."""


def make(name: str, address: str) -> Device:
    """The interface `name` with an address (`fd64::1/64`), made where it is not there. Raises
    MissingRequirementError, OSError."""
    from pyroute2 import IPRoute
    from pyroute2.netlink.exceptions import NetlinkError

    with IPRoute() as routes:
        device: Device
        if not routes.link_lookup(ifname=name):
            try:
                routes.link("add", ifname=name, kind="wireguard")
            except NetlinkError as error:
                if error.code in (errno.EPERM, errno.EACCES):
                    problem = f"no permission to make the interface {name}"
                    raise MissingRequirementError(problem, "run as root") from None
                _start_program(name)
        device = _Program(name) if (_SOCKETS / f"{name}.sock").exists() else _Kernel(name)
        index = routes.link_lookup(ifname=name)[0]
        host, _, length = address.partition("/")
        try:
            routes.addr("add", index=index, address=host, prefixlen=int(length))
        except NetlinkError as error:
            if error.code != errno.EEXIST:  # from the start before
                problem = f"{name} cannot have the address {address}: {os.strerror(error.code)}"
                remedy = "private roots need IPv6 here: sysctl -w net.ipv6.conf.all.disable_ipv6=0"
                raise MissingRequirementError(problem, remedy) from None
        routes.link("set", index=index, mtu=MTU, state="up")
    return device


def _start_program(name: str) -> None:
    if not shutil.which(PROGRAM):
        problem = "the kernel of this machine has no WireGuard, which private roots need"
        raise MissingRequirementError(
            problem, "modprobe wireguard, or: apt install wireguard-go (slower)"
        )
    (_SOCKETS / f"{name}.sock").unlink(missing_ok=True)
    done = subprocess.run([PROGRAM, name], capture_output=True, text=True, check=False)
    until = time.monotonic() + _PATIENCE
    while done.returncode == 0 and not (_SOCKETS / f"{name}.sock").exists():
        if time.monotonic() > until:
            break
        time.sleep(0.05)
    else:
        if done.returncode == 0:
            return
    said = " ".join(done.stderr.split())[-200:] or f"exit code {done.returncode}"
    problem = f"{PROGRAM} did not make the interface {name}: {said}"
    raise MissingRequirementError(problem, "run as root; /dev/net/tun must be there")


class _Kernel:
    """By netlink."""

    kind = KERNEL

    def __init__(self, name: str) -> None:
        from pyroute2 import WireGuard

        self._name, self._socket = name, WireGuard()

    def set_up(self, private: bytes, port: int) -> None:
        for one in self.states():
            self.remove(one.public)
        self._socket.set(self._name, private_key=_text(private), listen_port=port)

    def replace(self, peers: Sequence[Peer]) -> None:
        for peer in peers:
            self.remove(peer.public)
            told: dict[str, Any] = {
                "public_key": _text(peer.public), "persistent_keepalive": KEEPALIVE,
                "allowed_ips": [f"{peer.inside}/128"],
            }  # fmt: skip
            if peer.endpoint:
                told |= {"endpoint_addr": peer.endpoint[0], "endpoint_port": peer.endpoint[1]}
            self._socket.set(self._name, peer=told)

    def remove(self, public: bytes) -> None:
        self._socket.set(self._name, peer={"public_key": _text(public), "remove": True})

    def states(self) -> list[PeerState]:
        found = []
        for message in self._socket.info(self._name):
            for one in message.get_attr("WGDEVICE_A_PEERS") or ():
                public = one.get_attr("WGPEER_A_PUBLIC_KEY")
                at = one.get_attr("WGPEER_A_LAST_HANDSHAKE_TIME") or {}
                found.append(PeerState(
                    b64decode(public), float(at.get("tv_sec", 0)),
                    int(one.get_attr("WGPEER_A_RX_BYTES") or 0),
                    int(one.get_attr("WGPEER_A_TX_BYTES") or 0),
                ))  # fmt: skip
        return found


class _Program:
    """By the socket of the program (its text protocol, one question for each connection)."""

    kind = PROGRAM

    def __init__(self, name: str) -> None:
        self._path = _SOCKETS / f"{name}.sock"

    def set_up(self, private: bytes, port: int) -> None:
        self._ask([
            "set=1", f"private_key={private.hex()}", f"listen_port={port}", "replace_peers=true",
        ])  # fmt: skip

    def replace(self, peers: Sequence[Peer]) -> None:
        lines = ["set=1"]
        for peer in peers:
            lines += [f"public_key={peer.public.hex()}", "remove=true"]
        for peer in peers:
            lines.append(f"public_key={peer.public.hex()}")
            if peer.endpoint:
                host, port = peer.endpoint
                lines.append(f"endpoint={f'[{host}]' if ':' in host else host}:{port}")
            lines += [f"persistent_keepalive_interval={KEEPALIVE}", "replace_allowed_ips=true"]
            lines.append(f"allowed_ip={peer.inside}/128")
        if peers:
            self._ask(lines)

    def remove(self, public: bytes) -> None:
        self._ask(["set=1", f"public_key={public.hex()}", "remove=true"])

    def states(self) -> list[PeerState]:
        found: list[dict[str, str]] = []
        for line in self._ask(["get=1"]).splitlines():
            key, _, value = line.partition("=")
            if key == "public_key":
                found.append({})
            if found:
                found[-1][key] = value
        return [_state(one) for one in found]

    def _ask(self, lines: Sequence[str]) -> str:
        with closing(socket.socket(socket.AF_UNIX)) as sock:
            sock.settimeout(_PATIENCE)
            sock.connect(str(self._path))
            sock.sendall("".join(f"{line}\n" for line in lines).encode() + b"\n")
            answer = b""
            while not answer.endswith(b"\n\n") and len(answer) < _LARGEST:
                piece = sock.recv(1 << 16)
                if not piece:
                    break
                answer += piece
        text = answer.decode()
        number = next((abs(int(line[6:])) for line in text.split() if line[:6] == "errno="), 5)
        if number:
            raise OSError(number, os.strerror(number))
        return text


def _state(said: Mapping[str, str]) -> PeerState:
    return PeerState(
        bytes.fromhex(said["public_key"]), float(said.get("last_handshake_time_sec", "0")),
        int(said.get("rx_bytes", "0")), int(said.get("tx_bytes", "0")),
    )  # fmt: skip


def _text(key: bytes) -> str:
    return b64encode(key).decode()
