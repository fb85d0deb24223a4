"""A real sshd on this machine, and an `ssh` for it that is found first."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.conftest import until

CI = "CI" in os.environ  # there a missing program is a failure
MISSING = [name for name in ("rsync", "ssh", "sshd") if not shutil.which(name)]
needs_ssh = [
    pytest.mark.skipif(os.geteuid() != 0, reason="owners and mounts need root"),
    pytest.mark.skipif(bool(MISSING) and not CI, reason=f"not installed: {MISSING}"),
]


@contextmanager
def sshd(folder: Path, inside: str) -> Iterator[Path]:
    """`inside`: how the shell runs "$SSH_ORIGINAL_COMMAND". The folder of an `ssh` that comes to it
    whatever the name of the machine is."""
    for name in ("host", "user"):
        command = ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name)]
        subprocess.run(command, check=True)
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    (folder / "inside").write_text(f"#!/bin/sh\n{inside}\n")
    (folder / "inside").chmod(0o755)
    (folder / "sshd").write_text(
        f"Port {port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nPidFile none\n"
        f"AuthorizedKeysFile {folder}/user.pub\nStrictModes no\nUsePAM no\n"
        f"PermitRootLogin yes\nForceCommand {folder}/inside\n"
    )
    (folder / "config").write_text(
        f"Host *\nHostName 127.0.0.1\nPort {port}\nIdentityFile {folder}/user\n"
        f"IdentitiesOnly yes\nStrictHostKeyChecking no\nUserKnownHostsFile {folder}/known\n"
        "LogLevel ERROR\n"
    )
    programs = folder / "programs"
    programs.mkdir()
    (programs / "ssh").write_text(
        f'#!/bin/sh\nexec {shutil.which("ssh")} -F {folder}/config "$@"\n'
    )
    (programs / "ssh").chmod(0o755)
    Path("/run/sshd").mkdir(exist_ok=True)
    words = [shutil.which("sshd") or "", "-D", "-e", "-f", str(folder / "sshd")]
    with subprocess.Popen(words, stderr=(folder / "sshd.log").open("wb")) as server:
        until(lambda: b"listening" in (folder / "sshd.log").read_bytes())
        try:
            yield programs
        finally:
            server.terminate()
