"""How far a boot has come because of what happened: a table of events and stages."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from daskel.core.history.events import (
    Addressed,
    Contested,
    Event,
    FileAborted,
    FileAsked,
    FileKind,
    FileMissing,
    FileReceived,
    FileSent,
    FileSized,
    FileUntold,
    GivenBack,
    ImageStep,
    ImageTold,
    LeftOut,
    Malformed,
    Mounted,
    MountRefused,
    OtherServer,
    ProcessEnded,
    RawAsked,
    Refused,
    RootTrouble,
    Seen,
    SentToAll,
    Stage,
    Told,
    Unanswered,
    Unfit,
    Up,
    Waits,
)

_ORDER = list(Stage)
_ENDED = (Stage.REFUSED, Stage.LOBBY, Stage.LOCAL)  # from which any later stage is the next one
_OF_FILES = {
    FileKind.LOADER: Stage.LOADER,
    FileKind.CONFIGURATION: Stage.MENU,
    FileKind.KERNEL: Stage.KERNEL,
    FileKind.INITRD: Stage.INITRD,
    FileKind.UNIFIED: Stage.INITRD,
    FileKind.IMAGE: Stage.RUNNING,
}
_After = Callable[[Stage | None, Event], Stage | None]


def stage_after(stage: Stage | None, event: Event) -> Stage | None:
    """How far a boot has come after `event`. A firmware's new DISCOVER begins the next boot.

    Raises KeyError for a kind of event that the table does not list.
    """
    return _AFTER[type(event)](stage, event)


def _on_to(stage: Stage | None, reached: Stage | None) -> Stage | None:
    """The later one of two stages; from an end, any other one."""
    if reached is None or stage is None or stage in _ENDED:
        return reached or stage
    return max(stage, reached, key=_ORDER.index)


def _same(stage: Stage | None, _: Event) -> Stage | None:
    return stage


def _lobby(_: Stage | None, __: Event) -> Stage | None:
    return Stage.LOBBY


def _reaches(reached: Stage) -> _After:
    return lambda stage, _: _on_to(stage, reached)


def _seen(stage: Stage | None, event: Event) -> Stage | None:
    """The system's own DHCP, after its initrd was loaded, shows that its kernel runs."""
    assert isinstance(event, Seen)
    if event.firmware or stage is None:
        return Stage.SEEN
    return Stage.RUNNING if stage in (Stage.KERNEL, Stage.INITRD) else stage


def _addressed(stage: Stage | None, event: Event) -> Stage | None:
    assert isinstance(event, Addressed)
    if event.firmware and event.boot_file is None:  # nothing for it here: it goes to its own disk
        return Stage.LOCAL if stage in (None, Stage.SEEN) else stage
    return _on_to(stage, Stage.ADDRESSED)


def _sent(stage: Stage | None, event: Event) -> Stage | None:
    assert isinstance(event, FileSent)
    return _on_to(stage, _OF_FILES.get(event.kind))


def _untold(stage: Stage | None, event: Event) -> Stage | None:
    assert isinstance(event, FileUntold)
    return _on_to(stage, _OF_FILES.get(event.kind)) if event.proved else stage


def _unfit(stage: Stage | None, _: Event) -> Stage | None:
    """No boot file was in any reply, so that it was not told to start from its disk, either."""
    return Stage.ADDRESSED if stage is Stage.LOCAL else stage


def _refused(stage: Stage | None, _: Event) -> Stage | None:
    return Stage.REFUSED if stage in (None, Stage.SEEN, Stage.LOCAL) else stage


def _raw_asked(stage: Stage | None, event: Event) -> Stage | None:
    assert isinstance(event, RawAsked)
    return _on_to(stage, Stage.KERNEL) if event.loaded else stage


def _image_told(stage: Stage | None, event: Event) -> Stage | None:
    """An initrd that tells something shows that its kernel runs."""
    assert isinstance(event, ImageTold)
    return _on_to(stage, Stage.ROOT if event.step is ImageStep.MOUNTED else Stage.RUNNING)


def _other_server(stage: Stage | None, _: Event) -> Stage | None:
    return Stage.ADDRESSED if stage is Stage.LOCAL else stage


_AFTER: Mapping[type[Event], _After] = {
    Seen: _seen,
    Waits: _lobby,
    Addressed: _addressed,
    Refused: _refused,
    OtherServer: _other_server,
    GivenBack: _same,
    Contested: _same,
    FileAsked: _same,
    FileSized: _same,
    Told: _same,
    FileSent: _sent,
    FileMissing: _same,
    FileAborted: _same,
    SentToAll: _same,
    FileReceived: _same,
    Mounted: _reaches(Stage.ROOT),
    ImageTold: _image_told,
    MountRefused: _refused,
    RootTrouble: _same,
    Up: _reaches(Stage.UP),
    Unanswered: _same,
    Unfit: _unfit,
    FileUntold: _untold,
    RawAsked: _raw_asked,
    Malformed: _same,
    ProcessEnded: _same,
    LeftOut: _same,
}
