"""Which format belongs to what: to each command with `--json`, and to each question."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from daskel.core.formats import boots, commands, control, systems
from daskel.core.formats.shared import Done, Failure, UnusableSite

ALWAYS = (Failure, UnusableSite)  # what any command may print instead
EVENTS = "events"  # a line for each event

COMMANDS: Mapping[str, tuple[Any, ...]] = {
    "survey": (commands.Survey,),
    "new": (commands.NewSiteMade,),
    "root list": (list[systems.RootRow],),
    "root show": (systems.RootShown,),
    "root import": (systems.RootMade,),
    "root build": (systems.RootMade,),
    "root inspect": (systems.RootInspected,),
    "root files": (systems.RootFiles,),
    "root edit": (),  # another program's output
    "root seal": (systems.RootSealed,),
    "root use": (systems.RootUsed,),
    "root pack": (systems.RootPacked,),
    "root send": (systems.RootSent,),
    "root receive": (systems.Receiving, systems.RootReceived),
    "root diff": (systems.RootDifference,),
    "root drop": (systems.RootDropped,),
    "client list": (list[commands.ClientRow],),
    "client show": (dict[str, Any],),  # its keys in the site file
    "client export": (list[commands.ExportRow],),
    "group list": (list[commands.GroupRow],),
    "group show": (dict[str, Any],),
    "loadout list": (list[commands.LoadoutRow],),
    "loadout show": (dict[str, Any],),
    **{
        f"client {verb}": (commands.Changed,)
        for verb in ("add", "set", "remove", "rename", "import")
    },
    **{f"group {verb}": (commands.Changed,) for verb in ("add", "set", "remove")},
    **{f"loadout {verb}": (commands.Changed,) for verb in ("add", "set", "remove", "copy")},
    "assign": (commands.Changed,),
    "slate list": (list[systems.SlateRow],),
    "slate show": (list[systems.SlateChange],),
    "slate copy-out": (Done,),
    "slate freeze": (Done,),
    "slate rebase": (systems.SlateMoved,),
    "slate wipe": (systems.SlateWiped,),
    "lobby list": (list[commands.SightingRow | control.KeyWaits],),
    "lobby admit": (commands.Changed, control.KeyAdmitted),
    "lobby refuse": (commands.Changed,),
    "lobby forget": (Done,),
    "files list": (list[systems.FileRow],),
    "files show": (systems.FileShown,),
    "files add": (systems.FilesAdded,),
    "check": (commands.Checked,),
    "explain": (commands.Explained, dict[str, dict[str, str]]),  # the second with --variables
    "handoff": (commands.Handoff, commands.Zone),
    "rehearse": (boots.Rehearsal, boots.Storm, boots.Machine),
    "serve": (EVENTS,),
    "apply": (control.ApplyShown,),
    "status": (control.StatusShown, control.NotRunning),
    "wake": (boots.Woken,),
    "watch": (control.WatchRow,),
    "boots list": (list[boots.BootRow],),
    "boots show": (boots.BootShown,),
    "boots plot": (boots.BootsPlotted,),
    "boots report": (boots.WeekReport,),
    "diagnose": (list[boots.Diagnosed],),
    "forecast": (boots.ForecastFormat,),
    "store check": (boots.StoreChecked,),
    "slate home": (control.Home,),
    "slate move": (systems.SlatesMoved,),
    "slate receive": (systems.Receiving, Done),
    "servers": (control.ServersShown, control.ServerCompared),
    "store copy": (boots.StoreCopied,),
    "store restore": (boots.StoreRestored,),
    "keys make": (commands.Changed,),
    "keys show": (commands.KeyShown, commands.NoKey),
    "keys enrol": (commands.Enrolment,),
    "keys https": (commands.Changed,),
    "keys list": (control.ClientKeys,),
    "keys revoke": (control.KeyRevoked,),
    "keys medium": (Done,),
    "keys renew": (control.KeyRenewal, Done),
    "demo": (boots.Demo,),
    "help": (list[commands.KeyText],),
}

QUESTIONS: Mapping[str, Any] = {
    "status": control.Status,
    "watch": control.Watched,
    "events": control.Happened,
    "boot": control.CurrentBoot,
    "connected": control.Connected,
    "compare": control.Compared,
    "servers": control.Servers,
    "rows": control.Rows,
    "texts": control.SiteTexts,
    "forget": control.Forgotten,
    "once": control.Assigned,
    "home": control.Home,
    "keys": control.ClientKeys,
    "key": control.KeyAdmitted,
    "revoke": control.KeyRevoked,
    "next_key": control.KeyRenewal,
    "slate": control.TakenAway,
    "renew": control.Renewed,
    "apply": control.Applied,
}
