"""The server's side when the operating system's NFS server has the exports: which machine may have
which view, whenever that changes."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Sequence
from dataclasses import replace
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

from daskel.core.boot import mount_paths
from daskel.core.history.events import Addressed, Event, FileSent, GivenBack, Seen
from daskel.core.roots.views import all_views
from daskel.service.nfs.messages import Failed, Shown, ShownView, ShowViews
from daskel.service.nfs.processes import Keeping, said, taking
from daskel.service.shared import Shared
from daskel.system.nfs import nfsd
from daskel.system.requirements import MissingRequirementError

_log = logging.getLogger(__name__)


class KernelExports(Keeping):
    """Raises MissingRequirementError where the operating system has no NFS server, or this user may
    not tell it anything."""

    def __init__(self, shared: Shared, roots: Path, slates: Path) -> None:
        if problem := nfsd.look():
            _log.warning("%s", problem)
        super().__init__(shared, roots, slates, "shown")
        if not self._can_mount:
            problem = 'nfs = "kernel" needs root: it mounts what is exported'
            raise MissingRequirementError(
                problem, 'run as root, or leave out nfs = "kernel" in [site]'
            )
        self._again = asyncio.Event()  # something has changed
        self._busy = asyncio.Lock()  # one change of the exports at a time
        self._mounts: dict[str, dict[str, int]] = {}  # client, root: the version it may mount
        self._shown: ShowViews | None = None  # what was asked for last
        self._closed: set[tuple[str, str]] = set()  # slates that stay so until their client boots
        self._addresses: dict[str, set[IPv4Address]] = {}
        self._said: Sequence[str] = ()  # problems, said once

    async def serve(self) -> None:
        """Show what may be had now, and whenever that changes."""
        await super().serve()
        self._shared.bus.listen(Addressed, self._happened)
        self._shared.bus.listen(GivenBack, self._happened)
        self._shared.bus.listen(Seen, self._happened)
        self._shared.bus.listen(FileSent, self._happened)
        await self._show()
        self._begin(self._show_changes())

    def _keeper_started(self) -> None:
        self._shown = None
        self._again.set()

    def renew(self) -> None:
        """The site has changed: so may what clients may have."""
        self._begin(self.look_again())
        self._again.set()

    def connected(self) -> list[dict[str, Any]]:
        """Clients that have an address and a root; `open` is a connection now, without which they
        may still have it mounted."""
        here = nfsd.connected()
        return [
            {"client": name, "roots": roots, "open": bool(here & self._addresses[name])}
            for name, roots in self._mounts.items()
        ]

    async def take_away(self, root: str, client: str, how: str) -> dict[str, object]:
        """Close a slate, or wipe it."""
        async with self._busy:
            if how == "close":  # somebody is about to change it on the disk
                self._closed.add((root, client))
            answer = await self._keeper.ask(taking(how)(self._kept_name(root, client)))
        if how == "wipe":
            self._shared.slate_is_on(root, client, None)
        self._shown = None
        self._again.set()
        return said(answer)

    def _happened(self, event: Event) -> None:
        if name := self._boot_of(event):
            self._begin(self._boots(name))
        elif isinstance(event, (Addressed, GivenBack)):
            self._again.set()

    async def _boots(self, name: str) -> None:
        """Its slates are shown anew, and another version of its root may be in use."""
        self._closed = {(root, client) for root, client in self._closed if client != name}
        await self._begun(name)
        self._shown = None
        self._again.set()

    async def _show_changes(self) -> None:
        while True:
            await self._again.wait()
            self._again.clear()
            await self._show()

    async def _show(self) -> None:
        site, assigned = self._shared.site, self._shared.once.assigned
        known = all_views(site, self._shared.leases, assigned, self._shared.lease_time())
        found = [(at, view) for at, view in known if (view.root, view.client) not in self._closed]
        plain: dict[str, list[str]] = {}
        slates: dict[str, ShownView] = {}
        for address, view in found:
            if view.slate == "none":
                plain.setdefault(view.root, []).append(str(address))
                continue
            below = self._name(view.root, view.client).slates
            new = ShownView(view.root, view.client, dict(view.own), (), below)
            shown = slates.get(view.export) or new
            slates[view.export] = replace(shown, addresses=(*shown.addresses, str(address)))
        question = ShowViews(
            str(self._roots),
            {root: tuple(addresses) for root, addresses in plain.items()},
            {view.root: site.root_path(view.root) for _, view in found},
            tuple(slates.values()),
            tuple(name for name, root in site.roots.items() if root.ports == "any"),
        )  # fmt: skip
        if question == self._shown:
            return
        self._shown = question
        async with self._busy:
            answer = await self._keeper.ask(question)
        if isinstance(answer, Failed):
            answer = Shown({}, (answer.error,))
        assert isinstance(answer, Shown)
        self._say(answer.problems)
        versions = answer.versions
        self._mounts, self._addresses = {}, {}
        for address, view in (pair for pair in found if pair[1].client):
            place = mount_paths.slate_path(view.root, view.client)
            version = versions.get(view.root if view.slate == "none" else place, 0)
            self._mounts.setdefault(view.client, {})[view.root] = version
            self._addresses.setdefault(view.client, set()).add(address)

    def _say(self, problems: Sequence[str]) -> None:
        for problem in problems:
            if problem not in self._said:
                _log.warning("NFS: %s", problem)
        self._said = problems
