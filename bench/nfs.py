"""NFS: READ against a bare C loop with sendfile (bench/nfs.c), calls against an echo in the same
kind of loop, slates against the same system calls here."""

from __future__ import annotations

import os
import socket
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from ipaddress import IPv4Address
from pathlib import Path

from common import (
    ECHO_PORT,
    SERVER,
    WIRE,
    Limit,
    at_most,
    compare,
    daskel,
    echo,
    small,
    started,
    take,
)

from daskel.core.nfs import calls, nfs3, results
from daskel.core.nfs.calls import Make, NewAttributes
from daskel.core.nfs.handle import make_handle
from daskel.core.nfs.nfs3 import FileType, Procedure, Stable
from daskel.core.nfs.rpc import mark, serialise_call
from daskel.core.nfs.xdr import pack_opaque
from daskel.rehearse.fetch import NfsRoot
from daskel.system.nfs.export import Export
from daskel.system.nfs.openfiles import OpenFiles
from daskel.system.roots.mounts import tree_of

SIZE, UNDER_WAY, PIPELINE = small(256) << 20, 4, 64
LISTED, WRITE, WRITTEN = 32 << 10, 64 << 10, small(64) << 20  # bytes
CALLS, MADE, MANY = small(20_000, PIPELINE), small(2000, 100), small(200)
BARE_PORT, HEAD = 25995, 132  # bytes before the data of a READ, with the record's mark
ADDRESS = WIRE.outside(SERVER)
FIRST, SECOND = IPv4Address("10.61.8.21"), IPv4Address("10.61.8.22")


def _client(number: int) -> str:
    mac = f"02:61:08:00:01:{number:02x}"
    place = f'address = "10.61.9.{number}"\nboot = "slated"\n'
    return f'[client.many-{number}]\nmac = "{mac}"\nsegment = "tideroom"\n{place}'


MORE = """
[root.slated]
slate = "keep"
[loadout.slated]
kernel = "large"
root = "slated"
[client.tide-02]
mac = "02:61:08:00:00:02"
segment = "tideroom"
boot = "notebook"
address = "10.61.8.22"
""" + "".join(_client(number) for number in range(1, MANY + 1))


def record(waiting: bytearray, at: int) -> int:
    """Bytes of a call with its record mark."""
    if at + 4 > len(waiting):
        return 0
    return 4 + (int.from_bytes(waiting[at : at + 4], "big") & 0x7FFFFFFF)


def _call(number: int, procedure: Procedure, arguments: bytes) -> bytes:
    return mark(serialise_call(number, nfs3.PROGRAM, 3, procedure, arguments))


def read(size: int) -> Callable[[], float]:
    """MB/s; every reply is read whole, its length taken from its record mark."""

    def run() -> float:
        root = NfsRoot(WIRE, FIRST, SERVER, "/roots/notebook")
        handle = next(e.handle for e in root.entries(root.top) if e.name == b"large") or b""
        rate = pulled(root._sock, reads(size, handle))
        root.close()
        return rate

    return run


def reads(size: int, handle: bytes) -> list[bytes]:
    return [
        _call(n, Procedure.READ, calls.serialise_read(handle, at, size))
        for n, at in enumerate(range(0, SIZE, size))
    ]


def bare_read(size: int) -> Callable[[], float]:
    """The same from the C loop."""

    def run() -> float:
        with socket.create_connection((ADDRESS, BARE_PORT)) as stream:
            return pulled(stream, reads(size, bytes(48)))

    return run


def pulled(stream: socket.socket, messages: Sequence[bytes]) -> float:
    buffer = bytearray(1 << 20)
    began = time.perf_counter()
    for message in messages[:UNDER_WAY]:
        stream.sendall(message)
    for number in range(len(messages)):
        head = stream.recv(4, socket.MSG_WAITALL)
        take(stream, buffer, int.from_bytes(head, "big") & 0x7FFFFFFF)
        if number + UNDER_WAY < len(messages):
            stream.sendall(messages[number + UNDER_WAY])
    return SIZE / (time.perf_counter() - began) / 1e6


@contextmanager
def bare_loop(file: Path, size: int) -> Iterator[int]:
    """The C loop as a process; its number."""
    with tempfile.TemporaryDirectory(prefix="daskel-bench-") as name:
        program, source = Path(name) / "nfs", Path(__file__).with_suffix(".c")
        subprocess.run(["cc", "-O2", "-D_GNU_SOURCE", "-o", program, source], check=True)
        words = [program, ADDRESS, BARE_PORT, file, HEAD, size]
        process = subprocess.Popen(list(map(str, words)))
        time.sleep(0.3)
        try:
            yield process.pid
        finally:
            process.kill()
            process.wait()


def pipelined(stream: socket.socket, messages: Sequence[bytes], reply: int) -> float:
    """Calls per second, many under way; each reply has `reply` bytes with its mark."""
    buffer = bytearray(1 << 20)
    began = time.perf_counter()
    for start in range(0, len(messages), PIPELINE):
        batch = messages[start : start + PIPELINE]
        stream.sendall(b"".join(batch))
        take(stream, buffer, reply * len(batch))
    return len(messages) / (time.perf_counter() - began)


def asked(procedure: Procedure, own: IPv4Address = FIRST) -> Callable[[], float]:
    def run() -> float:
        root = NfsRoot(WIRE, own, SERVER, "/roots/notebook")
        arguments = _arguments(procedure, root)
        messages = [_call(n, procedure, arguments) for n in range(CALLS)]
        rate = pipelined(root._sock, messages, length(procedure, root))
        root.close()
        return rate

    return run


def _arguments(procedure: Procedure, root: NfsRoot) -> bytes:
    name = calls.serialise_lookup(root.top, b"large")
    return pack_opaque(root.top) if procedure is Procedure.GETATTR else name


def length(procedure: Procedure, root: NfsRoot) -> int:
    """Bytes of the reply with its mark: what `call` leaves is behind the head and the status."""
    return 4 + 24 + 4 + root.call(procedure, _arguments(procedure, root)).left


def echoed(request: int, reply: int) -> Callable[[], float]:
    def run() -> float:
        with socket.create_connection((ADDRESS, ECHO_PORT)) as stream:
            return pipelined(stream, [mark(bytes(request))] * CALLS, reply)

    return run


def ratio_of_workers() -> float:
    """Two clients at once, each served by a process of its own, against one of them alone."""
    one = asked(Procedure.GETATTR)()
    results_pipe = [os.pipe() for _ in range(2)]
    for (_, write), own in zip(results_pipe, (FIRST, SECOND), strict=True):
        if os.fork() == 0:
            os.write(write, str(asked(Procedure.GETATTR, own)()).encode())
            os._exit(0)
    both = sum(float(os.read(end, 100)) for end, _ in results_pipe)
    for _ in range(2):
        os.wait()
    return both / one


def created() -> float:
    """Files per second on a slate, many calls under way."""
    root = NfsRoot(WIRE, IPv4Address("10.61.9.1"), SERVER, "/roots/slated")
    stamp = time.time_ns()
    names = [b"%d-%d" % (stamp, n) for n in range(MADE)]
    new = NewAttributes(mode=0o644)
    made = [Make(root.top, name, FileType.REGULAR, new) for name in names]
    arguments = map(calls.serialise_create, made)
    messages = [_call(n, Procedure.CREATE, words) for n, words in enumerate(arguments)]
    root._sock.sendall(messages[0])
    reply = int.from_bytes(root._sock.recv(1 << 16)[:4], "big") & 0x7FFFFFFF
    rate = pipelined(root._sock, messages[1:], reply + 4)
    root.close()
    return rate


def made_here() -> float:
    """The same loop on the same disk, without NFS."""
    with tempfile.TemporaryDirectory(prefix="daskel-bench-") as folder:
        began = time.perf_counter()
        for number in range(MADE):
            os.close(os.open(f"{folder}/{number}", os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o644))
        return MADE / (time.perf_counter() - began)


def listed(folder: Path) -> Callable[[], float]:
    """Entries per second of a large folder with all that READDIRPLUS tells: the same calls again
    and again, one after the other."""
    many = folder / "roots/notebook/many"
    many.mkdir()
    for number in range(MADE):
        (many / f"file-{number}").write_bytes(b"x")
    time.sleep(2.5)  # until its names may be remembered

    def run() -> float:
        root = NfsRoot(WIRE, FIRST, SERVER, "/roots/notebook")
        directory = next(e.handle for e in root.entries(root.top) if e.name == b"many") or b""
        messages, cookie, last, count = [], 0, False, 0
        while not last:
            arguments = calls.serialise_readdirplus(directory, cookie, LISTED)
            messages.append(_call(len(messages), Procedure.READDIRPLUS, arguments))
            entries, last = results.parse_listed_plus(root.call(Procedure.READDIRPLUS, arguments))
            cookie, count = entries[-1].cookie, count + len(entries)
        began = time.perf_counter()
        for message in messages:
            root._sock.sendall(message)
            whole(root._sock)
        rate = count / (time.perf_counter() - began)
        root.close()
        return rate

    return run


def listed_here(folder: Path) -> Callable[[], float]:
    """Names, and the attributes of each, without NFS."""

    def run() -> float:
        began, count = time.perf_counter(), 0
        for entry in os.scandir(folder / "roots/notebook/many"):
            entry.stat(follow_symlinks=False)
            count += 1
        return count / (time.perf_counter() - began)

    return run


def written() -> float:
    """MB/s into a file on a slate, 64 KiB a call, unstable, several calls under way."""
    root = NfsRoot(WIRE, IPv4Address("10.61.9.1"), SERVER, "/roots/slated")
    new = Make(root.top, b"%d" % time.time_ns(), FileType.REGULAR, NewAttributes(mode=0o644))
    made = root.call(Procedure.CREATE, calls.serialise_create(new))
    handle, data = results.parse_made(made)[0], bytes(WRITE)
    writes = [calls.Write(handle, at, Stable.UNSTABLE, data) for at in range(0, WRITTEN, WRITE)]
    messages = [_call(n, Procedure.WRITE, write.serialise()) for n, write in enumerate(writes)]
    began = time.perf_counter()
    for message in messages[:UNDER_WAY]:
        root._sock.sendall(message)
    for number in range(len(messages)):
        whole(root._sock)
        if number + UNDER_WAY < len(messages):
            root._sock.sendall(messages[number + UNDER_WAY])
    rate = WRITTEN / (time.perf_counter() - began) / 1e6
    root.close()
    return rate


def written_here() -> float:
    data = bytes(WRITE)
    with tempfile.TemporaryFile(prefix="daskel-bench-") as file:
        began = time.perf_counter()
        for at in range(0, WRITTEN, WRITE):
            os.pwrite(file.fileno(), data, at)
        return WRITTEN / (time.perf_counter() - began) / 1e6


def whole(stream: socket.socket) -> None:
    """One reply, whatever its length."""
    head = stream.recv(4, socket.MSG_WAITALL)
    left = int.from_bytes(head, "big") & 0x7FFFFFFF
    stream.recv(left, socket.MSG_WAITALL)


def say_handles(folder: Path) -> None:
    """What the key costs, of all that a LOOKUP does in an export."""
    export = Export(b"number-1", tree_of(folder, writable=False), b"k" * 32, OpenFiles())
    from daskel.core.nfs.rpc import Credentials

    top, who, count = export.top(), Credentials(0, 0), 20_000

    def timed(work: Callable[[], object]) -> float:
        began = time.perf_counter()
        for _ in range(count):
            work()
        return (time.perf_counter() - began) / count * 1e6

    body = top[16:]

    def make() -> bytes:
        return make_handle(b"k" * 32, b"number-1", body)

    pairs = [(timed(make), timed(lambda: export.lookup(top, b"large", who))) for _ in range(5)]
    keyed, whole = (statistics.median(column) for column in zip(*pairs, strict=True))
    print(
        f"NFS, the key of a handle: {keyed:.1f} µs of the {whole:.1f} µs of a LOOKUP in an export"
    )


def say_many(server: int) -> None:
    """Views for many clients, and what all processes of the server take with them."""
    before = sum(map(_memory, family(server)))
    took, roots = [], []
    for number in range(1, MANY + 1):
        began = time.perf_counter()
        roots.append(NfsRoot(WIRE, IPv4Address(f"10.61.9.{number}"), SERVER, "/roots/slated"))
        took.append((time.perf_counter() - began) * 1000)
    took.sort()
    print(f"NFS, {MANY} clients mount: p50 {took[MANY // 2]:.1f} ms, p99 {took[-3]:.1f} ms each")
    processes = family(server)
    size = sum(_memory(process) for process in processes) / 1024
    print(f"  {len(processes)} processes of the server take {size:.0f} MiB (limit 300 MB)")
    at_most(
        "memory for each client that has a root mounted", "kB", [(size * 1024 - before) / MANY], 100
    )
    for root in roots:
        root.close()


def family(process: int) -> list[int]:
    children = Path(f"/proc/{process}/task/{process}/children").read_text().split()
    return [process, *(n for child in children for n in family(int(child)))]


def _memory(process: int) -> int:
    """KiB; what processes share is counted in parts."""
    lines = Path(f"/proc/{process}/smaps_rollup").read_text().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("Pss:"))


def main() -> None:
    with daskel(os.urandom(1 << 20) * (SIZE >> 20), more=MORE) as folder:
        path = folder / "roots/notebook/large"
        time.sleep(2.5)  # until what was just written may be remembered
        server = int((folder / "process").read_text())
        for size, goal in ((256 << 10, 0.92), (64 << 10, 0.85)):
            title = f"NFS READ, {SIZE >> 20} MiB, {size >> 10} KiB a call, {UNDER_WAY} under way"
            with bare_loop(path, size) as bare:
                limit = Limit("bare C loop", bare_read(size), bare)
                compare(title, "MB/s", read(size), limit, goal, server)
        for procedure, request, goal in (
            (Procedure.GETATTR, 100, 0.30), (Procedure.LOOKUP, 112, 0.22),
        ):  # fmt: skip
            root = NfsRoot(WIRE, FIRST, SERVER, "/roots/notebook")
            reply = length(procedure, root)
            root.close()
            with started(echo, mark(bytes(reply - 4)), record):
                time.sleep(0.5)
                title = f"NFS {procedure.name}, {PIPELINE} under way"
                echoes = ("echo", echoed(request, reply))
                compare(title, "calls/s", asked(procedure), echoes, goal)
        pairs = statistics.median(ratio_of_workers() for _ in range(5))
        print(f"NFS, two processes and clients against one of each: {pairs:.2f} times the rate")
        compare(
            "NFS CREATE on a slate", "files/s", created, ("the same loop here", made_here), 0.15
        )
        here = ("the same loop here", listed_here(folder))
        compare("NFS READDIRPLUS, 32 KiB a call", "entries/s", listed(folder), here)
        here = ("the same loop here", written_here)
        compare("NFS WRITE on a slate, 64 KiB a call", "MB/s", written, here)
        say_handles(folder / "roots/notebook")
        say_many(server)


if __name__ == "__main__":
    main()
