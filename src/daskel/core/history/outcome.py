"""How a boot ended, or that it goes on, and what it waits for."""

from __future__ import annotations

from daskel.core.history.boots import Boot, under_way
from daskel.core.history.events import (
    Addressed,
    FileAborted,
    FileMissing,
    FileSent,
    ImageStep,
    ImageTold,
    MountRefused,
    OtherServer,
    RawAsked,
    Refused,
    Seen,
    Stage,
)

_PATIENCE = {  # seconds without any event, after which a boot does not go on by itself
    Stage.SEEN: 30.0,
    Stage.ADDRESSED: 60.0,
    Stage.LOADER: 90.0,
    Stage.MENU: 300.0,  # a person may be choosing
    Stage.KERNEL: 90.0,
    Stage.INITRD: 180.0,
    Stage.RUNNING: 120.0,
}
_SHOCK = 20.0  # the same after bad news
RAW_SETTLED = 60.0  # seconds in which a system that was loaded in raw frames and does not run asks
_TRANSFER = 600.0  # the same while a file is being sent: it ends by itself when nobody answers


class Result:
    """How a boot ended, or that it goes on."""

    UP = "up"
    ROOT = "root"
    RUNNING = "running"  # from memory alone, as its loadout says
    LOCAL = "local"
    LOBBY = "lobby"
    REFUSED = "refused"
    STUCK = "stuck"
    UNDER_WAY = "under way"


GOOD = (Result.UP, Result.ROOT, Result.RUNNING, Result.LOCAL)
_ENDS = {
    Stage.UP: Result.UP, Stage.ROOT: Result.ROOT, Stage.LOCAL: Result.LOCAL,
    Stage.LOBBY: Result.LOBBY, Stage.REFUSED: Result.REFUSED,
}  # fmt: skip


def result(boot: Boot, now: float) -> str:
    """One of `Result`."""
    if boot.stage in _ENDS:
        return _ENDS[boot.stage]
    raw: RawAsked | None = boot.newest(RawAsked)
    if raw and raw.loaded and raw.trouble is None and raw.seconds > RAW_SETTLED:
        return Result.RUNNING
    loaded = boot.loaded
    in_memory = loaded is not None and loaded.root is None and bool(boot.newest(FileSent))
    whole = boot.stage is Stage.KERNEL and loaded is not None and not loaded.initrd
    if in_memory and (whole or boot.stage in (Stage.INITRD, Stage.RUNNING)):
        return Result.RUNNING
    failed = [at for at, told in boot.of(ImageTold) if told.step is ImageStep.FAILED]
    if failed and now - min(failed) > _SHOCK:
        return Result.STUCK  # it tries again by itself, for as long as it takes
    if now - boot.last > patience(boot):
        return Result.STUCK
    return Result.STUCK if in_trouble(boot) and now - boot.last > _SHOCK else Result.UNDER_WAY


def patience(boot: Boot) -> float:
    """Seconds for which nothing may happen before it is called stuck."""
    limit = _PATIENCE.get(boot.stage, float("inf"))
    return max(limit, _TRANSFER) if under_way(boot) else limit


def in_trouble(boot: Boot) -> bool:
    """The last thing that happened was bad news, so that it is worth a diagnosis at once."""
    last = boot.events[-1][1] if boot.events else None
    if isinstance(last, FileMissing):
        return not last.harmless
    if isinstance(last, ImageTold):
        return last.step is ImageStep.FAILED
    return isinstance(last, (FileAborted, MountRefused, Refused, OtherServer))


def waits_for(boot: Boot) -> str:
    """What the next thing is that should happen, while a boot is under way."""
    loaded, addressed = boot.loaded, boot.newest(Addressed)
    open_file = under_way(boot)
    if open_file and boot.stage not in (Stage.ROOT, Stage.UP):
        return f"fetches {open_file.path}"
    match boot.stage:
        case Stage.SEEN:
            seen: Seen | None = boot.newest(Seen)
            if seen and seen.over:
                return f"for {seen.asks}"
            offered = f" {seen.offered}" if seen and seen.offered else ""
            return f"to take the address{offered} that it was offered"
        case Stage.ADDRESSED:
            return f"to ask for {addressed.boot_file or 'a boot file'}" if addressed else ""
        case Stage.LOADER:
            return "to ask for its menu"
        case Stage.MENU:
            return "a choice on its screen, or its time to pass"
        case Stage.KERNEL:
            return "to ask for its initrd" if loaded and loaded.initrd else "its kernel to start"
        case Stage.INITRD:
            return "its kernel to start, and ask for an address"
        case Stage.RUNNING:
            return f"to mount its root {loaded.root}" if loaded and loaded.root else ""
        case Stage.LOBBY:
            return f"daskel lobby admit {boot.mac}"
        case _:
            return ""
