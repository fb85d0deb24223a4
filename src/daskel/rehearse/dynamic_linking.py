"""What a system needs of its root before anything else: its init, and what that is linked with."""

from __future__ import annotations

from collections.abc import Iterator

from daskel.core.roots.inspect import processor_of
from daskel.core.roots.linking import Linked, LinkError, Object, Tree, linked
from daskel.rehearse.fetch import BootError, NfsRoot

_INITS = ("/sbin/init", "/etc/init", "/bin/init", "/bin/sh")  # in the order of the kernel


class _NfsTree:
    """A root as the dynamic linker's rules look at it."""

    def __init__(self, root: NfsRoot) -> None:
        self._root = root

    def read(self, path: str) -> bytes | None:
        handle = self._root.resolve(path)
        return self._root.read_file(handle) if handle else None

    def names(self, path: str) -> list[str]:
        return self._root.names(path)

    def real(self, path: str) -> str:
        return self._root.real(path) or path


def needed_files(
    root: NfsRoot, arguments: str, processor: str | None, unsure: list[str]
) -> Iterator[tuple[str, bytes]]:
    """Path and content of init (`init=` of the kernel's arguments, or where it usually is), its
    interpreter, and all libraries that they are linked with; `processor`: the kernel's. What could
    not be known is put into `unsure`. Raises BootError."""
    found = starts(_NfsTree(root), arguments, processor)
    unsure += found.unsure
    for place, data in found.files.items():
        yield place.lstrip("/"), data


def starts(tree: Tree, arguments: str, processor: str | None) -> Linked:
    """What a kernel starts first in a root, and what that needs. Raises BootError."""
    words = [w.partition("=")[2] for w in arguments.split() if w.startswith("init=")]
    candidates = words or _INITS
    path = next((path for path in candidates if tree.read(path) is not None), None)
    if path is None:
        none = f"none of {', '.join(candidates)}" if len(candidates) > 1 else f"no {candidates[0]}"
        raise BootError(f"the root has {none}")
    try:
        found = linked(tree, path)
    except LinkError as error:
        raise BootError(str(error)) from None
    if found.program:
        found.unsure += _fits(found.program, processor)
    return found


def _fits(program: Object, processor: str | None) -> list[str]:
    """Whether the kernel can run it; what is not sure."""
    made_for = processor_of(program.machine)
    if not processor or not made_for or made_for == processor:
        return []
    said = f"{program.path} of the root is for {made_for}, and the kernel for {processor}"
    if (made_for, processor) == ("arm", "arm64"):
        return [f"{said}, which runs programs of 32 bits on some machines"]
    raise BootError(said)
