"""The keeper's part when the operating system's NFS server has the exports: shows every view that
somebody may have, and writes the exports file."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from daskel.core.boot import mount_paths
from daskel.core.roots.exports_file import Exported, exports_text
from daskel.service.nfs.messages import Shown, ShownView, ShowViews
from daskel.system.nfs import nfsd
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.mounts import mounted_below, unmount
from daskel.system.roots.roots import RootFolder
from daskel.system.roots.slates import Slate


class Showing:
    """What is shown, and exported, now."""

    def __init__(self) -> None:
        self._exported: dict[str, Exported] = {}  # by path
        self._places = nfsd.Places()
        self._versions: dict[str, int] = {}
        self._problems: list[str] = []

    def show(self, asked: ShowViews) -> Shown:
        """Show all that is asked for, and nothing else. Raises OSError."""
        self._places, self._versions, self._problems = nfsd.Places(), {}, []
        before, self._exported = self._exported, {}
        try:
            for root, addresses in asked.plain.items():
                folder = RootFolder(Path(asked.roots), asked.paths[root])
                self._show_root(root, folder, addresses, any_port=root in asked.any_port)
            self._show_views(asked)
        except BaseException:
            self._exported = before
            raise
        return Shown(self._versions, tuple(self._problems))

    def _show_root(
        self, name: str, root: RootFolder, addresses: Sequence[str], *, any_port: bool
    ) -> None:
        """Every version: clients that run stay on the one that they mounted."""
        state = root.state()
        for number in (0, *state.versions):
            if (base := root.version(number)).is_dir():
                place = mount_paths.version_path(name, number)
                self._places.show_version(base, Path(place), sealed=number > 0)
                self._exported[place] = Exported(addresses, False, any_port, apart=number > 0)
        used = mount_paths.version_path(name, state.used)
        if used not in self._exported:
            self._problems.append(f"the folder of the root {name} is missing")
        nfsd.link(Path(mount_paths.root_path(name)), Path(used))
        self._versions[name] = state.used

    def _show_views(self, asked: ShowViews) -> None:
        """What is to be wiped is taken out of the exports first."""
        wiped: list[tuple[Slate, ShownView]] = []
        for view in asked.views:
            slate = Slate(Path(view.slates), view.root, view.client)
            if (state := slate.state()) and state.wipe:
                wiped.append((slate, view))
            else:
                self._show_view(slate, view, asked)
        if wiped:
            nfsd.export(exports_text(self._exported))
            for slate, _ in wiped:
                _close(slate)
                slate.renew()
            self._places = nfsd.Places()
            for slate, view in wiped:
                self._show_view(slate, view, asked)
        nfsd.export(exports_text(self._exported))

    def _show_view(self, slate: Slate, view: ShownView, asked: ShowViews) -> None:
        root = RootFolder(Path(asked.roots), asked.paths[slate.root])
        try:
            version = slate.show(root, view.own, self._places)
        except MissingRequirementError as error:
            self._problems.append(str(error))
            return
        place = mount_paths.slate_path(slate.root, slate.client)
        self._places.show_view(slate.view, Path(place))
        any_port = slate.root in asked.any_port
        self._exported[place] = Exported(view.addresses, True, any_port, apart=True)
        self._versions[place] = version

    def close(self, slate: Slate) -> None:
        """Take a slate out of the exports, and close it."""
        if self._exported.pop(mount_paths.slate_path(slate.root, slate.client), None):
            nfsd.export(exports_text(self._exported))
        _close(slate)


def _close(slate: Slate) -> None:
    for point in mounted_below(Path(mount_paths.slate_path(slate.root, slate.client))):
        unmount(point)
    slate.close()
