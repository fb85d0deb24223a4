"""The NFS part of a server, as processes of its own: one that mounts, and workers that serve.

Run by the server as `python -m daskel.service.nfs.keeper KEEPER WORKER...`, each number a channel
to it. All share a mount namespace of their own, so that no mount outlives them; the workers keep
only the privileges that serving files needs. With `shown KEEPER` everybody sees the mounts: they
are for the operating system's NFS server.
"""

from __future__ import annotations

import logging
import os
import selectors
import signal
import socket
import sys
from pathlib import Path

from daskel.service.nfs.nfsd_views import Showing
from daskel.service.nfs.worker import serve
from daskel.system.channel import Message, pair, receive, send
from daskel.system.host import privileges
from daskel.system.nfs.fhandle import KernelFinder
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.mounts import mounted_below, own_namespace
from daskel.system.roots.roots import RootFolder
from daskel.system.roots.slates import Slate


def main() -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the server ends us, by closing the channels
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
    shown = sys.argv[1] == "shown"
    channels = [socket.socket(fileno=int(word)) for word in sys.argv[2 if shown else 1 :]]
    try:
        if not shown:
            own_namespace()
        can_mount = os.geteuid() == 0
    except OSError:
        can_mount = False
    helped: list[socket.socket] = []
    for channel in channels[1:]:
        ours, theirs = pair()
        if os.fork() == 0:
            for other in [*channels, *helped, ours]:
                if other is not channel:
                    other.close()
            os.umask(0)  # modes are what clients say
            privileges.keep_only(privileges.FOR_FILES)
            serve(channel, theirs)
        theirs.close()
        helped.append(ours)
    for channel in channels[1:]:
        channel.close()
    keep(channels[0], helped, Keeper(shown), can_mount)


def keep(
    server: socket.socket, workers: list[socket.socket], keeper: Keeper, can_mount: bool
) -> None:
    """Make and take away views for the server, and find files for the workers, one request after
    the other; ends with the server."""
    send(server, {"can_mount": can_mount})
    waiting = selectors.DefaultSelector()
    for end in (server, *workers):
        waiting.register(end, selectors.EVENT_READ, end)
    while True:
        for ready, _ in waiting.select():
            channel: socket.socket = ready.data
            message = receive(channel)
            if message is None:
                return
            if channel is server:
                send(server, {"answer": message[0]["id"], **_done(keeper, message[0])})
            else:
                _find(channel, message[0])


def _done(keeper: Keeper, asked: Message) -> Message:
    try:
        return keeper.do(asked)
    except MissingRequirementError as error:
        return {"error": str(error)}
    except OSError as error:
        place = f" ({error.filename})" if error.filename else ""
        return {"error": f"{error.strerror or error}{place}"}
    except Exception as error:
        logging.exception("a view could not be made")
        return {"error": repr(error)}


def _find(worker: socket.socket, asked: Message) -> None:
    """Hand over an O_PATH descriptor; none when the file is gone."""
    found: list[int] = []
    try:
        top = os.open(asked["folder"], os.O_PATH | os.O_DIRECTORY)
        found.append(top)
        finder = KernelFinder(top)
        found.append(finder.open(bytes.fromhex(asked["body"])))
        finder.close()
    except OSError:
        send(worker, {})
    else:
        send(worker, {}, found[1:])
    for descriptor in found:
        os.close(descriptor)


class Keeper:
    def __init__(self, shown: bool) -> None:
        self._showing = Showing() if shown else None

    def do(self, asked: Message) -> Message:
        if asked["do"] == "versions":
            return self._versions(RootFolder(Path(asked["roots"]), asked["path"]))
        if asked["do"] == "show" and self._showing:
            return self._showing.show(asked)
        slate = Slate(Path(asked["slates"]), asked["root"], asked["client"])
        if asked["do"] == "open":
            return self._open(slate, asked)
        if asked["do"] == "begun":
            slate.begin(fresh=asked["fresh"])
            return {}
        if self._showing:
            self._showing.close(slate)
        slate.close()
        if asked["do"] == "wipe":
            slate.wipe()
        elif asked["do"] == "renew":
            slate.renew()
        return {}

    def _versions(self, root: RootFolder) -> Message:
        """The version that clients get, and those that are on the disk."""
        state = root.state()
        there = [n for n in (0, *state.versions) if root.version(n).is_dir()]
        return {"used": state.used, "there": there}

    def _open(self, slate: Slate, asked: Message) -> Message:
        """`wipe` in the answer: the slate must be closed and wiped first."""
        state = slate.state()
        if state is None and asked["only_if_there"]:
            return {"none": True}
        if state and state.wipe and asked["booting"]:
            return {"wipe": True}
        root = RootFolder(Path(asked["roots"]), asked["path"])
        version = slate.show(root, asked["own"], mounted_below(slate.folder))
        return {"folder": str(slate.view), "upper": str(slate.upper), "version": version}


if __name__ == "__main__":
    main()
