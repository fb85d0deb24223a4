"""Why a boot came no further: the first cause that fits says why it stopped, the others what else
was noticed. Where what a cause rests on cannot be seen, it is not told."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from daskel.core.history.boots import End
from daskel.core.history.case import Blind, Case, Cause
from daskel.core.history.causes.before_loading import BEFORE_LOADING
from daskel.core.history.causes.loading import LOADING, loader_refused
from daskel.core.history.causes.running import MOUNTING, RUNNING
from daskel.core.history.events import FileUntold, Seen, Stage
from daskel.core.history.misses import CUT
from daskel.core.history.outcome import Result, patience
from daskel.core.values import counted, show_duration

CANNOT_TELL = "cannot-tell"
_TABLE: tuple[Callable[[Case], Iterator[Cause]], ...] = (
    loader_refused, *BEFORE_LOADING, *MOUNTING, *LOADING, *RUNNING,
)  # fmt: skip


def diagnose(case: Case) -> list[Cause]:
    """The causes that fit; nothing for a boot that is well, or still under way without trouble."""
    found, hidden = [], []
    for cause in (cause for find in _TABLE for cause in find(case)):
        reasons = [case.blind[blind] for blind in cause.rests_on if blind in case.blind]
        hidden += reasons if cause.stops else []
        found += [cause] if not reasons else []
    if not case.captured or any(cause.stops for cause in found):
        return found
    unclear = _unclear(case, hidden)
    return [unclear, *found] if unclear else found


def _unclear(case: Case, hidden: list[str]) -> Cause | None:
    """What keeps a capture from telling how a boot ended; None where it tells."""
    if case.result not in (Result.STUCK, Result.UNDER_WAY):
        return None
    reasons = list(dict.fromkeys(hidden))
    if not reasons and Blind.TUNNEL in case.blind and Blind.NFS in case.blind:
        reasons = [case.blind[Blind.NFS]]
    untold = [fetch.path for fetch in case.files if fetch.end is End.UNTOLD]
    mounts = [e.path for _, e in case.boot.of(FileUntold) if e.over == "nfs"]
    if not reasons and mounts:
        reasons = [f"the answer to its mount of {mounts[-1] or 'its root'} is not whole in it"]
    if not reasons and untold:
        reasons = [f"how the transfer of {untold[-1]} ended is not in it"]
    if not reasons and any(fetch.path.endswith(CUT) for fetch in case.files):
        reasons = ["its packets are cut, so that names of files are not whole"]
    if not reasons and case.stage is Stage.RUNNING and Blind.NFS not in case.blind:
        reasons = ["it asked for no root by NFS, and may need none"]
    if not reasons and case.result == Result.UNDER_WAY:
        seconds = round(case.now - case.boot.last)
        reasons = [f"it ends {counted(seconds, 'second')} after the last that was heard of it"]
    if not reasons:
        reasons = list(dict.fromkeys(case.blind.values())) or ["nothing in it says why"]
    systems = [at for at, event in case.boot.of(Seen) if event.system]
    ran = "; a system that asks for an address itself shows that a kernel ran" if systems else ""
    problem = (
        f"how it went on after {case.stage.value} cannot be told from this capture: "
        f"{', and '.join(reasons)}{ran}"
    )
    remedy = (
        "capture on the server or the client's wire, both directions, whole packets, without a "
        "filter, from before the machine is switched on until "
        f"{show_duration(round(patience(case.boot)))} after it stops"
    )
    if reasons == [case.blind.get(Blind.TUNNEL)]:
        remedy = f"the server itself knows: daskel diagnose {case.who}, there, without a capture"
    return Cause(CANNOT_TELL, problem, remedy)
