"""What clients may deliver: which rule of the site lets which of them write which path."""

from __future__ import annotations

from collections.abc import Iterator

from daskel.core.content.computed import client_paths, for_nobody
from daskel.core.content.paths import PathRefusedError, clean_path
from daskel.core.history.events import Who
from daskel.core.site.finding import Finding
from daskel.core.site.model import Site
from daskel.core.site.tables import Upload

_REFUSED = "no [upload] of the site allows it"


class Uploads:
    """The rules of one site. Made once per site."""

    def __init__(self, site: Site) -> None:
        self._folders: dict[str, tuple[Upload, str | None]] = {}  # rule, and whose folder it is
        for pattern, upload in site.uploads.items():
            if "{" not in pattern:
                folder = clean_path(pattern.encode()).removesuffix("/*")
                self._folders.setdefault(folder, (upload, None))
                continue
            for name in site.clients:
                for path in client_paths(site, pattern, name):
                    self._folders.setdefault(path.removesuffix("/*"), (upload, name))

    def folders(self, who: Who) -> Iterator[tuple[str, Upload]]:
        """Where somebody may deliver files, and by which rule."""
        for folder, (upload, owner) in self._folders.items():
            if owner in (None, who.name):
                yield folder, upload

    def rule(self, asked: bytes, who: Who) -> tuple[str, Upload]:
        """The path and the rule that lets `who` write what it `asked` for, from the network.
        Raises PathRefusedError."""
        path = clean_path(asked)
        folder, _, name = path.rpartition("/")
        upload, owner = self._folders.get(folder, (None, None))
        if upload is None or owner not in (None, who.name) or name.startswith("."):
            raise PathRefusedError(_REFUSED)
        return path, upload


def check_uploads(site: Site) -> Iterator[Finding]:
    """Rules that are for nobody."""
    for pattern in site.uploads:
        paths = (path for name in site.clients for path in client_paths(site, pattern, name))
        if "{" in pattern and site.clients and not any(paths):
            yield for_nobody(site, "upload", pattern)
