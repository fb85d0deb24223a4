"""Events as log lines: for people a line of words, for programs a JSON object."""

from __future__ import annotations

from json import JSONEncoder
from json.encoder import encode_basestring

from daskel.core.history.encoding import as_json
from daskel.core.history.events import (
    DETAILS,
    Addressed,
    Contested,
    Event,
    FileAborted,
    FileAsked,
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
    Trouble,
    Unanswered,
    Unfit,
    Up,
    Waits,
)
from daskel.core.values import counted, show_duration, show_size

_MOST_TEXTS, _EACH = 20_000, 4  # lines that are remembered: at least, and for each client
_BAD = (
    Refused, OtherServer, Contested, FileMissing, FileAborted, MountRefused, Malformed, RootTrouble,
    Unanswered, ProcessEnded,
)  # fmt: skip
_TROUBLES = {
    Trouble.FULL: "its slate of {} is full: it cannot write any more",
    Trouble.STALE: "it has a file open of {} that is not there any more",
}


def words(event: Event) -> tuple[str, str]:
    """What happened in one word, and the rest."""
    match event:
        case Seen():
            how = event.firmware or f"not from firmware ({event.vendor_class or 'no vendor class'})"
            by = f", through relay agent {event.relay}" if event.relay else ""
            asks = f", asks for {event.asks}" if event.asks else ""
            return "seen", f"{event.who.mac} on {event.segment}, {how}{asks}{by}"
        case Waits():
            return "waits", f"in the lobby of {event.segment}: daskel lobby admit {event.who.mac}"
        case Addressed():
            file = f", boot file {event.boot_file}" if event.boot_file else ""
            if not event.lease:  # heard, not given
                by = f"the DHCP server {event.by}" if event.by else "another DHCP server"
                return "address", f"{event.address} from {by}{file}"
            what = "again " if event.renewed else ""
            return "address", f"{what}{event.address} for {show_duration(event.lease)}{file}"
        case Refused():
            return "refused", event.reason
        case OtherServer():
            where = f" on {event.segment}, where Daskel should be the only one"
            return "other server", f"{event.server} {event.how}{where if event.segment else ''}"
        case GivenBack():
            why = "is in use by somebody else" if event.declined else "was given back"
            return "address", f"{event.address} {why}"
        case Contested():
            whose = event.who.name or event.who.mac
            return "contested", (
                f"{event.address} of {whose} is used by {event.by}, "
                f"which gets nothing that is {whose}'s"
            )
        case FileSent():
            again = f", {counted(event.resent, 'packet')} again" if event.resent else ""
            size, time = show_size(event.size), show_duration(event.seconds)
            return event.kind.value, f"{event.path} {size} in {time} over {event.over}{again}"
        case SentToAll():
            times = f"{event.sent / max(event.size, 1):.2f} times"
            to, time = counted(event.receivers, "machine"), show_duration(round(event.seconds, 1))
            return "sent", f"{event.path} {times} over multicast for {to}, in {time}"
        case FileMissing():
            near = f"; there is {', '.join(event.near)}" if event.near else ""
            return "missing", f"{event.path} over {event.over}: {event.reason}{near}"
        case FileAborted():
            return "aborted", f"{event.path} over {event.over}: {event.reason}"
        case FileReceived():
            return "received", f"{event.path} {show_size(event.size)}"
        case Mounted():
            return "mounted", f"root {event.root}, {event.how}"
        case ImageTold():
            return _image_words(event)
        case MountRefused():
            return "refused", f"mount {event.path}: {event.reason}".replace("mount :", "mount:")
        case FileAsked():
            return "asked", f"{event.path} over {event.over} ({show_size(event.size)})"
        case FileSized():
            return "asked", f"{event.path} over {event.over}: only how large it is"
        case Told():
            names = ", ".join(loaded.loadout for loaded in event.loadouts)
            return "told", f"{names}: {event.loadouts[0].arguments if event.loadouts else ''}"
        case RootTrouble():
            return "trouble", _TROUBLES[event.what].format(event.root)
        case Up():
            seconds = show_duration(round(event.uptime, 1))
            return "up", f"Linux {event.kernel}, {seconds} after its start: {event.arguments}"
        case Unanswered():
            what, again = (
                event.asked or event.what.value.upper(),
                f", {event.times} times" * (event.times > 1),
            )
            how = "refused" if event.closed else "not answered"
            return "unanswered", f"{what} of {event.server or 'anybody'}: {how}{again}"
        case Unfit():
            return "unfit", f"no reply has the {event.need.value} that its firmware needs"
        case FileUntold():
            how = "what followed shows that it got it" if event.proved else "its end was not heard"
            return "asked", f"{event.path} over {event.over}: {how}"
        case RawAsked():
            got = ", and was loaded" if event.loaded else ""
            got += f": {event.trouble.value}" if event.trouble else ""
            return "asked", f"for {event.asked} by {event.protocol} in raw Ethernet frames{got}"
        case LeftOut():
            lines = counted(event.count, "more line")
            return "left out", f"{lines} of the kind {event.kind}, in the last minute"
        case ProcessEnded():
            return "ended", f"{event.what} has ended; it is started anew ({event.seconds:.1f} s)"
        case Malformed():
            what = "message" if event.count == 1 else "messages"
            return (
                "malformed",
                f"{event.count} malformed {event.service.upper()} {what}: {event.example}",
            )
        case _:
            return "event", repr(event)


def _image_words(event: ImageTold) -> tuple[str, str]:
    if event.step is ImageStep.FETCHING:
        return "fetching", f"its root into memory, {show_size(event.size)}"
    if event.step is ImageStep.MOUNTED:
        return "mounted", f"its root from an image, after {show_duration(round(event.seconds, 1))}"
    if event.step is ImageStep.TUNNEL:
        took = show_duration(round(event.seconds, 1))
        return "private", f"its tunnel is up, after {took}; its key: {event.text}"
    if event.step is ImageStep.RECONNECTED:
        lost = show_duration(round(event.seconds))
        return "connected", f"its block device again; the connection was lost for {lost}"
    return "failed", f"to mount its root: {event.text}"


def bad(event: Event) -> bool:
    if isinstance(event, ImageTold):
        return event.step is ImageStep.FAILED
    return isinstance(event, _BAD) and not (isinstance(event, FileMissing) and event.harmless)


def level(event: Event) -> str:
    """`debug` for what only matters together with what follows it, `warning` for bad news."""
    if isinstance(event, DETAILS):
        return "debug"
    return "warning" if bad(event) else "info"


def doing(what: str) -> str:
    """What a boot waits for (`waits_for`), as the end of a sentence about it."""
    if not what or what.startswith(("fetches", "daskel")):
        return what
    return f"waits {what if what.startswith('to ') else f'for {what}'}"


json_text = JSONEncoder(ensure_ascii=False, default=str).encode


def _text(value: object) -> str:
    """The same of one value, which is nearly always a text, or nothing: an encoder takes longer to
    begin than for these."""
    if type(value) is str:
        return encode_basestring(value)
    return "null" if value is None else json_text(value)


class JsonTexts:
    """Events as JSON texts, remembered: at every boot of a machine the very same ones come."""

    def __init__(self) -> None:
        self._texts: dict[int, tuple[Event, Stage | None, str]] = {}  # by identity
        self._most = _MOST_TEXTS

    def use(self, clients: int) -> None:
        """So many machines are in the site."""
        self._most = max(_MOST_TEXTS, _EACH * clients)

    def of(self, event: Event, stage: Stage | None) -> str:
        kept = self._texts.get(id(event))
        if kept is not None and kept[1] is stage:
            return kept[2]
        if len(self._texts) >= self._most:
            self._texts.clear()
        told = as_json(event)
        head = {"event": told.pop("event"), "level": level(event)}
        who = {key: told.pop(key) for key in ("client", "mac", "from")}
        whole = {**head, **who, "stage": stage.value if stage else None, **told}
        text = "{" + ", ".join([f'"{key}": {_text(value)}' for key, value in whole.items()]) + "}"
        self._texts[id(event)] = event, stage, text
        return text
