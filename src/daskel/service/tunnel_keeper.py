"""The tunnel's interface and key, in a process of its own: the one that answers DHCP, TFTP and HTTP
can neither read the key nor ask the kernel for it.

Run by the server as `python -m daskel.service.tunnel_keeper CHANNEL` (see `tunnel`): lines of JSON,
an answer to each. It ends with the server; the interface stays, so that clients that run go on when
it is started again.
"""

from __future__ import annotations

import errno
import json
import os
import socket
import stat
import sys
from base64 import b64encode
from collections.abc import Callable
from contextlib import suppress
from dataclasses import asdict
from pathlib import Path
from typing import Any

from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey

from daskel.system.host.ports import holder
from daskel.system.host.privileges import NET_ADMIN, keep_only
from daskel.system.host.wireguard import Device, Peer, make
from daskel.system.requirements import MissingRequirementError

_KEY = 32  # bytes


def own_key(path: Path) -> X25519PrivateKey:
    """The server's, made when it is missing. Raises MissingRequirementError, OSError."""
    if not path.exists():
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(descriptor, "wb") as file:
            file.write(X25519PrivateKey.generate().private_bytes_raw())
            file.flush()
            os.fsync(file.fileno())
    status, data = path.stat(), path.read_bytes()
    if status.st_mode & (stat.S_IRWXG | stat.S_IRWXO) or status.st_uid != os.geteuid():
        problem = f"{path} can be read by others than root"
        raise MissingRequirementError(problem, f"chown root {path} && chmod 600 {path}")
    if len(data) != _KEY:
        problem = f"{path} has {len(data)} bytes, and a key has {_KEY}"
        remedy = "restore it from a backup; a new one means that every client is admitted anew"
        raise MissingRequirementError(problem, remedy)
    return X25519PrivateKey.from_private_bytes(data)


def next_key(secret: Path) -> Path:
    """Where the one is that clients are told before the server has it."""
    return secret.with_name(f"{secret.name}.next")


def _public(key: X25519PrivateKey) -> str:
    return b64encode(key.public_key().public_bytes_raw()).decode()


class _Keeper:
    def __init__(self) -> None:
        self._device: Device | None = None

        self._secret, self._port = Path(), 0

    def open(self, asked: dict[str, Any]) -> dict[str, Any]:
        """Everything that needs root's rights."""
        self._secret, self._port = Path(asked["secret"]), asked["port"]
        key = own_key(self._secret)
        after = next_key(self._secret)
        following = own_key(after) if after.exists() else None
        self._device = make(asked["interface"], asked["address"])
        try:
            self._device.set_up(key.private_bytes_raw(), asked["port"])
        except Exception as error:
            if errno.EADDRINUSE in (getattr(error, "errno", 0), getattr(error, "code", 0)):
                held = holder("udp", asked["port"]) or "another program"
                problem = f"port {asked['port']}/udp, for the tunnel, is held by {held}"
                remedy = "end it, or choose another: port = ... in [site.private]"
                raise MissingRequirementError(problem, remedy) from None
            raise
        keep_only((NET_ADMIN,))
        return {
            "public": _public(key), "next": _public(following) if following else "",
            "kind": self._device.kind,
        }  # fmt: skip

    def renew(self, _: dict[str, Any]) -> dict[str, Any]:
        return {"next": _public(own_key(next_key(self._secret)))}

    def finish(self, _: dict[str, Any]) -> dict[str, Any]:
        """The one before is kept beside it."""
        assert self._device
        key = own_key(next_key(self._secret))
        before = self._secret.with_name(f"{self._secret.name}.before")
        before.unlink(missing_ok=True)
        before.hardlink_to(self._secret)
        next_key(self._secret).replace(self._secret)
        self._device.set_up(key.private_bytes_raw(), self._port)
        return {"public": _public(key)}

    def replace(self, asked: dict[str, Any]) -> dict[str, Any]:
        assert self._device
        peers = [
            Peer(bytes.fromhex(public), inside, (outside[0], outside[1]) if outside else None)
            for public, inside, outside in asked["peers"]
        ]
        self._device.replace(peers)
        return {}

    def remove(self, asked: dict[str, Any]) -> dict[str, Any]:
        assert self._device
        self._device.remove(bytes.fromhex(asked["public"]))
        return {}

    def states(self, _: dict[str, Any]) -> dict[str, Any]:
        assert self._device
        states = [asdict(one) | {"public": one.public.hex()} for one in self._device.states()]
        return {"states": states}


def main(channel: int) -> None:
    """Answer until the server closes its end."""
    keeper = _Keeper()
    handlers: dict[str, Callable[[dict[str, Any]], dict[str, Any]]] = {
        "open": keeper.open, "replace": keeper.replace, "remove": keeper.remove,
        "states": keeper.states, "renew": keeper.renew, "finish": keeper.finish,
    }  # fmt: skip
    with (
        suppress(ConnectionError),  # the server was killed
        socket.socket(fileno=channel) as sock,
        sock.makefile("rwb") as lines,
    ):
        for line in lines:
            asked = json.loads(line)
            try:
                answer = handlers[asked["do"]](asked)
            except MissingRequirementError as error:
                answer = {"error": error.problem, "remedy": error.remedy}
            except Exception as error:  # noqa: BLE001 - a fault with one peer ends nothing else
                answer = {"error": f"the tunnel: {error}", "remedy": "look at the server's log"}
            answer["number"] = asked["number"]
            lines.write(json.dumps(answer).encode() + b"\n")
            lines.flush()


if __name__ == "__main__":
    main(int(sys.argv[1]))
