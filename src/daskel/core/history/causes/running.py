"""Causes once a kernel runs: its root, and what it runs with. And what several boots show."""

from __future__ import annotations

from collections.abc import Iterator
from statistics import median

from daskel.core.history.case import Blind, Case, Cause
from daskel.core.history.causes.before_loading import LOADS_AGAIN
from daskel.core.history.events import (
    OVER_RAW,
    Addressed,
    FileAsked,
    FileKind,
    FileSent,
    FileUntold,
    ImageFailure,
    ImageStep,
    ImageTold,
    Loaded,
    MountRefusal,
    MountRefused,
    RootTrouble,
    Seen,
    Stage,
    Trouble,
    Unanswered,
    Up,
)
from daskel.core.history.outcome import GOOD, RAW_SETTLED, Result
from daskel.core.values import counted, show_duration

_LOOPS, _LOOP_TIME = 3, 900.0  # boots that got no further, and the seconds that they are within
_SLOW, _SLOW_TIME = 3.0, 10.0  # times its neighbours' median, and seconds more than it
_MANY_AGAIN = 0.03  # of the packets of a file
_PACKET = 1400  # bytes


def _mount_refused(case: Case) -> Iterator[Cause]:
    found = case.last(MountRefused)
    if not found or case.result in GOOD or case.stage in (Stage.ROOT, Stage.UP):
        return
    event, loaded = found[1], case.boot.loaded
    assert isinstance(event, MountRefused)
    problem = f"its root was refused: {event.path or 'NFS'}: {event.reason}"
    asked = f"; it was told {_nfsroot(loaded)}" if loaded and _nfsroot(loaded) else ""
    remedy = "daskel check names what is missing from a root; daskel root list shows what there is"
    if event.why is MountRefusal.VERSION:
        remedy = "the root is mounted with NFS version 3 over TCP: nfsroot=...,nfsvers=3,tcp"
    elif event.why is MountRefusal.PORT:
        remedy = (
            "mount it as root, without noresvport, and not through address translation; "
            'ports = "any" in the table of the root lets every program of its clients in'
        )
    yield Cause("mount-refused", problem + asked, remedy, (found,))


_IMAGE = {  # what is to be done when an initrd could not mount its root
    ImageFailure.SERVER: "look at its cable, the switch and the server's firewall (daskel survey)",
    ImageFailure.ABSENT: "daskel check says what is missing; daskel root pack makes an image",
    ImageFailure.DIGEST: "the image was changed: make it anew (daskel root pack); look at the disk",
    ImageFailure.MEMORY: 'give it more memory, or delivery = "blocks", which needs little',
    ImageFailure.MODULES: "install a kernel in the root that has them (Debian: linux-image-amd64)",
    ImageFailure.MOUNT: "its screen says more; daskel slate wipe begins anew with what it keeps",
    ImageFailure.NETWORK: "make the initrd with all network drivers (Debian: MODULES=most)",
    ImageFailure.KEY: "daskel keys list shows whose key is known; see the guide on private roots",
    ImageFailure.TUNNEL: "let its UDP port through the server's firewall",
    ImageFailure.ARGUMENTS: "somebody changed the line on its screen, or its boot loader did",
    ImageFailure.INTERNAL: "its screen says more; press Enter there for a shell",
}


def _image_failed(case: Case) -> Iterator[Cause]:
    """The initrd itself says why it could not mount the image."""
    told = [(at, e) for at, e in case.boot.of(ImageTold) if e.step is ImageStep.FAILED]
    newest = max(told, key=lambda pair: pair[0], default=None)
    if newest is None or case.result in GOOD:
        return
    event = newest[1]
    failure = event.failure or ImageFailure.INTERNAL
    problem = f"its initrd could not mount its root: {event.text or failure.value}"
    yield Cause(f"image-{failure.value}", problem, _IMAGE[failure], (newest,))


def _reconnected(case: Case) -> Iterator[Cause]:
    found = [(at, e) for at, e in case.boot.of(ImageTold) if e.step is ImageStep.RECONNECTED]
    if found:
        longest = max(e.seconds for _, e in found)
        problem = f"the connection of its block device was lost {counted(len(found), 'time')}, "
        problem += f"at most for {show_duration(round(longest))}"
        remedy = "it waited and goes on; look at the cable, the switch and the server's log"
        yield Cause("connection-lost", problem, remedy, (found[-1],), stops=False)


def _no_mount(case: Case) -> Iterator[Cause]:
    if case.stage is not Stage.RUNNING or case.result != Result.STUCK:
        return
    if case.last(MountRefused, Unanswered, FileUntold, ImageTold):
        return
    found, loaded = case.last(Addressed, Seen), case.boot.loaded
    told = _nfsroot(loaded) if loaded else ""
    if loaded is None or loaded.root is None:
        return  # it may run from memory
    if _of_image(loaded):
        if any(e.kind is FileKind.IMAGE for _, e in case.boot.of(FileAsked, FileSent)):
            return  # it has not told what became of it
        problem = "its system runs and has an address, and its initrd never asked for its image"
        remedy = (
            "look at its screen: the initrd that mounts an image (daskel.img) was not unpacked, or "
            "the kernel's arguments have no boot=daskel"
        )
        yield Cause("no-mount", problem, remedy, (found,) if found else (), (Blind.NFS,))
        return
    problem = "its system runs and has an address, and never asked for its root"
    problem += f"; it was told {told}" if told else "; no nfsroot= was handed out"
    remedy = (
        "the initrd has no NFS client, or tries another server or version: look at its screen; "
        "daskel root inspect finds what is missing from the initrd"
    )
    yield Cause("no-mount", problem, remedy, (found,) if found else (), (Blind.NFS,))


def _of_image(loaded: Loaded) -> bool:
    return any(word.startswith("daskel.root=") for word in loaded.arguments.split())


def _nfsroot(loaded: Loaded) -> str:
    words = [word for word in loaded.arguments.split() if word.startswith("nfsroot=")]
    return words[-1] if words else ""


def _root_trouble(case: Case) -> Iterator[Cause]:
    for what, cause, problem, remedy in (
        (Trouble.FULL, "slate-full", "its slate of the root {} is full: it cannot write any more",
         "daskel slate show {} tells what takes the room; size = ... in the root's table is the "
         "limit; daskel slate wipe {} begins anew"),
        (Trouble.STALE, "stale", "it holds files of the root {} that are not there any more",
         "start it again: the root was replaced while it ran (seal versions instead of changing "
         "the tree in place)"),
    ):  # fmt: skip
        found = [(at, e) for at, e in case.boot.of(RootTrouble) if e.what is what]
        if found:
            where = found[-1][1].root
            said = remedy.replace("{}", case.who)
            yield Cause(cause, problem.format(where), said, (found[-1],))


def _differs(case: Case) -> Iterator[Cause]:
    """What it runs is not what it was told."""
    up: Up | None = case.boot.newest(Up)
    loaded = case.boot.loaded
    if up is None or loaded is None:
        return
    told, runs = _words(loaded.arguments), _words(up.arguments)
    missing, more = sorted(told - runs), sorted(runs - told)
    if not missing and not more:
        return
    parts = [f"without {' '.join(missing)}"] if missing else []
    parts += [f"with {' '.join(more)}"] if more else []
    problem = f"it runs {' and '.join(parts)}, unlike what was handed out"
    remedy = "somebody changed the line on its screen, or its boot loader adds to it"
    at = next(at for at, event in case.boot.of(Up) if event is up)
    yield Cause("differs", problem, remedy, ((at, up),), stops=False)


def _words(arguments: str) -> set[str]:
    """Without what boot loaders add by themselves."""
    return {word for word in arguments.split() if not word.startswith("BOOT_IMAGE=")}


def _again(case: Case) -> Iterator[Cause]:
    """Many packets of a file had to be sent again."""
    worst = max(
        (f for f in case.files if f.size), key=lambda f: f.resent / (f.size or 1), default=None
    )
    if worst is None or not worst.size or worst.resent < 20:
        return
    part = worst.resent / (worst.size / _PACKET)
    if part >= _MANY_AGAIN:
        problem = f"{worst.resent} packets of {worst.path} had to be sent again ({part:.0%})"
        remedy = "look at its cable and switch port, and whether the line is overloaded"
        found = next((a, e) for a, e in case.boot.of(FileSent) if e.path == worst.path and e.resent)
        yield Cause("packets-lost", problem, remedy, (found,), stops=False)


def _slow(case: Case) -> Iterator[Cause]:
    for stage, seconds in case.boot.durations.items():
        others = [boot.durations[stage] for boot in case.beside if stage in boot.durations]
        if len(others) < 3:
            continue
        usual = median(others)
        if seconds > _SLOW * usual and seconds - usual > _SLOW_TIME:
            problem = (
                f"from {stage.value} to the next stage took {show_duration(round(seconds))}, "
                f"its neighbours {show_duration(round(usual))}"
            )
            remedy = "look at its cable, its switch port (10 Mbit/s, half duplex?) and its memory"
            yield Cause("slow", problem, remedy, stops=False)
            return


def _loops(case: Case) -> Iterator[Cause]:
    """The machine begins again and again."""
    boots = [case.boot, *case.before]
    way = case.boot.way  # firmware that goes on to its next way does not begin again
    near = [b for b in boots if case.boot.began - b.began < _LOOP_TIME and b.way == way]
    stages = (Stage.ADDRESSED, Stage.LOADER, Stage.MENU, Stage.KERNEL, Stage.INITRD, Stage.RUNNING)
    same = [b for b in near if b.stage in stages]
    if len(same) >= _LOOPS and len(same) == len(near):
        furthest = max((b.stage for b in same), key=stages.index)
        problem = (
            f"it has begun {counted(len(same), 'time')}, and came no further than {furthest.value}"
        )
        span = show_duration(int(same[0].began - same[-1].began))
        remedy = "watch its screen while it starts; what is said below is of the last time"
        text, rests_on = f"{problem}, within {span}", (Blind.TUNNEL,)
        yield Cause("starts-over", text, remedy, rests_on=rests_on, stops=False)


def _loads_again(case: Case) -> Iterator[Cause]:
    """It was loaded in raw Ethernet frames, and asked for the same again at once."""
    if case.result in GOOD and case.now - case.boot.last > RAW_SETTLED:
        return
    loads: list[tuple[float, FileSent]] = []
    next_boot = case.boot
    for before in case.before:
        sent = [(at, e) for at, e in before.of(FileSent) if e.over in OVER_RAW]
        same = case.boot.loaded in (None, before.loaded)
        if not same or not sent or next_boot.began - sent[-1][0] > RAW_SETTLED:
            break
        loads.append(sent[-1])
        next_boot = before
    if loads:
        at, event = loads[0]
        again = show_duration(round(case.boot.began - at, 1))
        times = counted(len(loads), "time")
        problem = f"{event.path} was loaded {times}, and it asked again {again} later"
        yield Cause("loads-again", problem, LOADS_AGAIN, (loads[0],))


MOUNTING = (_mount_refused, _image_failed)
RUNNING = (_loads_again, _no_mount, _root_trouble, _loops, _differs, _reconnected, _again, _slow)
