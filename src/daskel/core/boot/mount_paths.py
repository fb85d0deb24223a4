"""Where the operating system's NFS server shows the views that clients mount."""

from __future__ import annotations

PLACE = "/run/daskel/exports"


def root_path(root: str) -> str:
    """What clients without a slate mount: a link to the version that is in use."""
    return f"{PLACE}/roots/{root}"


def version_path(root: str, version: int) -> str:
    """Where the link leads; clients that mounted a former version stay on it."""
    return f"{PLACE}/versions/{root}/{version}"


def slate_path(root: str, client: str) -> str:
    """What one client mounts that has a slate of the root."""
    return f"{PLACE}/slates/{root}/{client}"
