"""Which format belongs to what: to each command with `--json`, and to each question."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from daskel.core.formats import commands as made
from daskel.core.formats import control
from daskel.core.formats.shared import Done, Failure, UnusableSite

ALWAYS = (Failure, UnusableSite)  # what any command may print instead
EVENTS = "events"  # a line for each event

COMMANDS: Mapping[str, tuple[Any, ...]] = {
    "survey": (made.Survey,),
    "new": (made.NewSiteMade,),
    "root list": (list[made.RootRow],),
    "root show": (made.RootShown,),
    "root import": (made.RootMade,),
    "root build": (made.RootMade,),
    "root inspect": (made.RootInspected,),
    "root files": (made.RootFiles,),
    "root edit": (),  # another program's output
    "root seal": (made.RootSealed,),
    "root use": (made.RootUsed,),
    "root diff": (made.RootDifference,),
    "root drop": (made.RootDropped,),
    "client list": (list[made.ClientRow],),
    "client show": (dict[str, Any],),  # its keys in the site file
    "client export": (list[made.ExportRow],),
    "group list": (list[made.GroupRow],),
    "group show": (dict[str, Any],),
    "loadout list": (list[made.LoadoutRow],),
    "loadout show": (dict[str, Any],),
    **{f"client {verb}": (made.Changed,) for verb in ("add", "set", "remove", "rename", "import")},
    **{f"group {verb}": (made.Changed,) for verb in ("add", "set", "remove")},
    **{f"loadout {verb}": (made.Changed,) for verb in ("add", "set", "remove", "copy")},
    "assign": (made.Changed,),
    "slate list": (list[made.SlateRow],),
    "slate show": (list[made.SlateChange],),
    "slate copy-out": (Done,),
    "slate freeze": (Done,),
    "slate rebase": (made.SlateMoved,),
    "slate wipe": (made.SlateWiped,),
    "lobby list": (list[made.SightingRow],),
    "lobby admit": (made.Changed,),
    "lobby refuse": (made.Changed,),
    "lobby forget": (Done,),
    "files list": (list[made.FileRow],),
    "files show": (made.FileShown,),
    "files add": (made.FilesAdded,),
    "check": (made.Checked,),
    "explain": (made.Explained, dict[str, dict[str, str]]),  # the second with --variables
    "handoff": (made.Handoff, made.Zone),
    "rehearse": (made.Rehearsal, made.Storm, made.Machine),
    "serve": (EVENTS,),
    "apply": (control.ApplyShown,),
    "status": (control.StatusShown, control.NotRunning),
    "wake": (made.Woken,),
    "watch": (control.WatchRow,),
    "boots list": (list[made.BootRow],),
    "boots show": (made.BootShown,),
    "boots plot": (made.BootsPlotted,),
    "boots report": (made.WeekReport,),
    "diagnose": (list[made.Diagnosed],),
    "forecast": (made.ForecastFormat,),
    "store check": (made.StoreChecked,),
    "store restore": (made.StoreRestored,),
    "demo": (made.Demo,),
    "help": (list[made.KeyText],),
}

QUESTIONS: Mapping[str, Any] = {
    "status": control.Status,
    "watch": control.Watched,
    "events": control.Happened,
    "boot": control.CurrentBoot,
    "connected": control.Connected,
    "compare": control.Compared,
    "forget": control.Forgotten,
    "once": control.Assigned,
    "slate": control.TakenAway,
    "apply": control.Applied,
}
