"""The NFS part of a server, as processes of its own: one that mounts, and workers that serve.

Run by the server as `python -m daskel.service.nfs.keeper CHANNEL`: a process that does nothing but
start the one that mounts, which starts the workers. All share a mount namespace of their own, so
that no mount outlives them; the workers keep only the privileges that serving files needs. With
`shown CHANNEL` everybody sees the mounts: they are for the operating system's NFS server.
"""

from __future__ import annotations

import logging
import os
import selectors
import signal
import socket
import sys
from collections.abc import Callable, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any, cast

from daskel.service.nfs.channel import pair, receive, send
from daskel.service.nfs.messages import (
    AskSlates,
    AskVersions,
    BootBegins,
    CloseSlate,
    DiskAt,
    Done,
    Failed,
    FindFile,
    Message,
    MustBeWiped,
    NotThere,
    OpenDisk,
    Opened,
    OpenFile,
    OpenSlate,
    OpenTree,
    Publish,
    Ready,
    RenewSlate,
    Republished,
    ShowViews,
    SlateName,
    SlateOn,
    Slates,
    StartWorker,
    Versions,
    WipeSlate,
)
from daskel.service.nfs.nfsd_views import Showing
from daskel.service.nfs.worker import serve
from daskel.system.host import privileges
from daskel.system.nfs.fhandle import KernelFinder
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.mounts import mounted_below, own_namespace, tree_of
from daskel.system.roots.publishing import PublishedFolder, Sent
from daskel.system.roots.roots import RootFolder
from daskel.system.roots.slates import Slate, slates_below


def main() -> None:
    """Start the process that mounts, as often as the server asks, until it ends."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the server ends us, by closing the channels
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    shown = sys.argv[1] == "shown"
    server = socket.socket(fileno=int(sys.argv[-1]))
    try:
        if not shown:
            own_namespace()
        can_mount = os.geteuid() == 0
    except OSError:
        can_mount = False
    while received := receive(server):
        if os.fork() == 0:
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)
            server.close()
            keep(socket.socket(fileno=received[1][0]), Keeper(shown), can_mount)
            os._exit(0)
        os.close(received[1][0])
    with suppress(ChildProcessError):
        os.wait()  # returns when all have ended


def keep(server: socket.socket, keeper: Keeper, can_mount: bool) -> None:
    """Make and take away views for the server, start its workers, and find files for them, one
    request after the other; returns when the server has gone, also when it went while it was
    answered."""
    waiting = selectors.DefaultSelector()
    waiting.register(server, selectors.EVENT_READ)
    workers: dict[socket.socket, int] = {}  # and their processes
    try:
        send(server, Ready(can_mount))
        while True:
            for ready, _ in waiting.select():
                channel = cast("socket.socket", ready.fileobj)
                received = receive(channel)
                if received is None and channel is not server:
                    waiting.unregister(channel)
                    channel.close()
                    os.waitpid(workers.pop(channel), 0)
                elif received is None:
                    return
                elif channel is not server:
                    _answer(channel, received[0].message, received[1])
                elif isinstance(received[0].message, StartWorker):
                    started, process = _start_worker([server, *workers], received[1][0])
                    workers[started] = process
                    waiting.register(started, selectors.EVENT_READ)
                else:
                    message, number = received[0]
                    send(server, _done(keeper, message), number)
    except (BrokenPipeError, ConnectionResetError):
        return


def _start_worker(others: list[socket.socket], channel: int) -> tuple[socket.socket, int]:
    """What it asks this process by, and its process."""
    ours, theirs = pair()
    process = os.fork()
    if process == 0:
        for other in (*others, ours):
            other.close()
        os.umask(0)  # modes are what clients say
        with suppress(OSError):  # where memory is short, it goes before the server does
            Path("/proc/self/oom_score_adj").write_text("500")
        privileges.keep_only(privileges.FOR_FILES)
        serve(socket.socket(fileno=channel), theirs)
    theirs.close()
    os.close(channel)
    return ours, process


def _done(keeper: Keeper, asked: Message) -> Message:
    try:
        return keeper.do(asked)
    except MissingRequirementError as error:
        return Failed(str(error))
    except OSError as error:
        place = f" ({error.filename})" if error.filename else ""
        return Failed(f"{error.strerror or error}{place}")
    except Exception as error:
        logging.exception("a view could not be made")
        return Failed(repr(error))


def _answer(worker: socket.socket, asked: Message, sent: list[int]) -> None:
    """Hand a descriptor to a worker; none when there is nothing to be had."""
    found: list[int] = []
    with suppress(OSError):
        found.append(FOR_WORKERS[type(asked)](asked, sent))
    with suppress(BrokenPipeError, ConnectionResetError):
        send(worker, Done(), descriptors=found)
    for descriptor in (*sent, *found):
        os.close(descriptor)


def _find(asked: FindFile, sent: list[int]) -> int:
    finder = KernelFinder(sent[0])
    try:
        return finder.open(asked.body)
    finally:
        finder.close()


def _open_tree(asked: OpenTree, _: list[int]) -> int:
    return tree_of(Path(asked.folder), writable=asked.writable)


def _open_file(asked: OpenFile, _: list[int]) -> int:
    return os.open(asked.path, (os.O_RDWR if asked.writable else os.O_RDONLY) | os.O_CLOEXEC)


FOR_WORKERS: Mapping[type[Message], Callable[[Any, list[int]], int]] = {
    FindFile: _find,
    OpenTree: _open_tree,
    OpenFile: _open_file,
}


class Keeper:
    """Does what the server asks, one thing after the other."""

    def __init__(self, shown: bool) -> None:
        self._showing = Showing() if shown else None

    def do(self, asked: Message) -> Message:
        """Do what is asked, by the table of handlers. Raises OSError."""
        return _HANDLERS[type(asked)](self, asked)

    def versions(self, asked: AskVersions) -> Message:
        """Which versions of a root are on the disk."""
        root = RootFolder(Path(asked.roots), asked.path)
        state = root.state()
        there = tuple(n for n in (0, *state.versions) if root.version(n).is_dir())
        return Versions(state.used, there)

    def show(self, asked: ShowViews) -> Message:
        """Show the operating system's NFS server what it is to export."""
        assert self._showing, "it was begun with `shown`"
        return self._showing.show(asked)

    def open(self, asked: OpenSlate) -> Message:
        """Mount a slate on the version of its root."""
        slate = _slate(asked.slate)
        state = slate.state()
        if state is None and asked.only_if_there:
            return NotThere()
        if state and state.wipe and asked.booting:
            return MustBeWiped()
        root = RootFolder(Path(asked.roots), asked.path)
        version = slate.show(root, asked.own, mounted_below(slate.folder), asked.wanted)
        return Opened(str(slate.view), str(slate.upper), version, bool(slate.frozen))

    def publish(self, asked: Publish) -> Message:
        """Publish what a root boots with."""
        root = RootFolder(Path(asked.roots), asked.path)
        sent = Sent(asked.images, asked.group)
        published = PublishedFolder(Path(asked.published))
        return Republished(published.publish(asked.name, root, sent))

    def slates(self, asked: AskSlates) -> Message:
        """Which versions slates were made on. What is damaged is said when it is opened."""
        found = []
        for slate in slates_below(Path(asked.slates)):
            with suppress(MissingRequirementError, OSError):
                if state := slate.state():
                    on = SlateOn(slate.root, slate.client, state.version, bool(slate.frozen))
                    found.append(on)
        return Slates(tuple(found))

    def disk(self, asked: OpenDisk) -> Message:
        """What a client keeps as blocks."""
        slate = _slate(asked.slate)
        path = slate.open_disk(asked.version, asked.size)
        return DiskAt(str(path), bool(slate.frozen))

    def begin(self, asked: BootBegins) -> Message:
        """A client begins a boot."""
        _slate(asked.slate).begin(fresh=asked.fresh)
        return Done()

    def close(self, asked: CloseSlate | WipeSlate | RenewSlate) -> Message:
        """Close a slate, and wipe it or make it anew where that is asked."""
        slate = _slate(asked.slate)
        if self._showing:
            self._showing.close(slate)
        slate.close()
        if isinstance(asked, WipeSlate):
            slate.wipe()
        elif isinstance(asked, RenewSlate):
            slate.renew()
        return Done()


def _slate(name: SlateName) -> Slate:
    return Slate(Path(name.slates), name.root, name.client)


_HANDLERS: Mapping[type[Message], Callable[[Keeper, Any], Message]] = {
    AskVersions: Keeper.versions,
    AskSlates: Keeper.slates,
    Publish: Keeper.publish,
    ShowViews: Keeper.show,
    OpenSlate: Keeper.open,
    OpenDisk: Keeper.disk,
    BootBegins: Keeper.begin,
    CloseSlate: Keeper.close,
    WipeSlate: Keeper.close,
    RenewSlate: Keeper.close,
}


if __name__ == "__main__":
    main()
