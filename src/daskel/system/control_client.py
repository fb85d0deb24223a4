"""Questions to the running server, by its control socket: a line of JSON each way."""

from __future__ import annotations

import json
import socket
from pathlib import Path
from typing import Any

from daskel.system.requirements import MissingRequirementError

Answer = dict[str, Any]


def socket_path(state: Path) -> Path:
    """Where the control socket of the server with this store is."""
    return state.with_suffix(".socket")


def ask(path: Path, question: str, **more: object) -> Answer | None:
    """The running server's answer; None when none runs.

    Raises MissingRequirementError without permission.
    """
    with socket.socket(socket.AF_UNIX) as sock:
        sock.settimeout(60)
        try:
            sock.connect(str(path))
        except PermissionError:
            raise MissingRequirementError(
                f"no permission for {path}", "run as the server's user"
            ) from None
        except OSError:
            return None
        sock.sendall(json.dumps({"do": question, **more}).encode() + b"\n")
        with sock.makefile("rb") as lines:
            answer: Answer = json.loads(lines.readline() or b"{}")
    return answer
