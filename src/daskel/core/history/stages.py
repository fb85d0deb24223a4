"""How far a boot has come because of what happened."""

from __future__ import annotations

from daskel.core.history.events import (
    Addressed,
    Event,
    FileKind,
    FileSent,
    Mounted,
    MountRefused,
    OtherServer,
    Refused,
    Seen,
    Stage,
    Up,
    Waits,
)

_BY_KIND = {
    FileKind.LOADER: Stage.LOADER,
    FileKind.CONFIGURATION: Stage.MENU,
    FileKind.KERNEL: Stage.KERNEL,
    FileKind.INITRD: Stage.INITRD,
}
_ORDER = list(Stage)


def stage_after(stage: Stage | None, event: Event) -> Stage | None:
    """How far a boot has come after `event`. A firmware's new DISCOVER begins the next boot.

    The system's own DHCP, after its initrd was loaded, shows that its kernel runs.
    """
    reached: Stage | None = None
    if isinstance(event, Seen):
        if event.firmware or stage is None:
            return Stage.SEEN
        reached = Stage.RUNNING if stage in (Stage.KERNEL, Stage.INITRD) else None
    elif isinstance(event, Addressed):
        reached = Stage.ADDRESSED
        if event.firmware and event.boot_file is None:
            reached = Stage.LOCAL if stage in (None, Stage.SEEN) else None
    elif isinstance(event, FileSent):
        reached = _BY_KIND.get(event.kind)
    elif isinstance(event, Waits):
        return Stage.LOBBY
    elif isinstance(event, Mounted):
        reached = Stage.ROOT
    elif isinstance(event, Up):
        reached = Stage.UP
    elif isinstance(event, OtherServer):
        return Stage.ADDRESSED if stage is Stage.LOCAL else stage
    elif isinstance(event, (Refused, MountRefused)):
        return Stage.REFUSED if stage in (None, Stage.SEEN, Stage.LOCAL) else stage
    if reached is None or stage in (Stage.REFUSED, Stage.LOBBY, Stage.LOCAL):
        return reached or stage
    return reached if stage is None or _ORDER.index(reached) > _ORDER.index(stage) else stage
