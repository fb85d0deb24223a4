"""Runs one server until it ends, and writes its log: for `serve`, and for practice."""

from __future__ import annotations

import asyncio
import gc
import logging
import os
import resource
import signal
import sys
import time
from collections import Counter
from typing import TYPE_CHECKING

from rich.text import Text

from daskel.cli import events
from daskel.cli.output import ExitCode, Output
from daskel.core.boot.wire import Wire
from daskel.core.formats.notes import Note
from daskel.core.history.batch import Batch
from daskel.core.history.events import Event, Stage
from daskel.core.history.line_limit import WINDOW, LineLimit
from daskel.core.replies.bootfile import missing_loaders
from daskel.core.site.model import Site
from daskel.core.site.over_ipv6 import over_ipv6
from daskel.core.site.toml import read_toml
from daskel.core.values import counted, few
from daskel.service import loop
from daskel.service.control import ControlService, Running
from daskel.service.server import Server
from daskel.store.database import Store
from daskel.system.bootloader import build_missing
from daskel.system.certificate import server_side
from daskel.system.control_client import socket_path
from daskel.system.host.manager import notify
from daskel.system.host.privileges import give
from daskel.system.requirements import MissingRequirementError
from daskel.system.signing import load_signer
from daskel.system.sitefile import SiteFile

if TYPE_CHECKING:  # few sites have a key, or several servers
    from daskel.core.efi.signature import Signer
    from daskel.store.shared_store import SharedStore

STILL = 600.0  # seconds without any event: the batch will not become complete any more
_PRIORITIES = {"debug": 7, "info": 6, "warning": 4}  # syslog(3)
LEVELS = tuple(_PRIORITIES)
_MOST_WARNINGS = 20  # of one kind, a minute
_LOOKS, _LINGERS = 0.2, 1.0  # seconds: last acknowledgements may be lost and asked for again
_ALONE = "daskel"  # the name of a server where the site names none
_SWITCH = 0.0005  # seconds: the thread that writes leases must not wait for the one that answers


def serve_site(file: SiteFile, wire: Wire, output: Output) -> ExitCode:
    """Serve a site as it is in memory. Raises MissingRequirementError."""
    return run_until_ended(file, file.valid, wire, Log(output))


def run_until_ended(file: SiteFile, site: Site, wire: Wire, log: Log) -> ExitCode:
    sys.setswitchinterval(_SWITCH)
    logging.basicConfig(handlers=[_Handler(log)], level=logging.WARNING)
    for path in build_missing(file.files, site.settings.loaders):
        log.note("built", f"boot loader {path}")
    for loader, remedy in missing_loaders(site):
        log.note("warning", f"no boot loader {loader}: {remedy}")
    code: ExitCode = loop.run(_serve(_server(file, site, wire, log), file, site, wire, log))
    return code


def _server(file: SiteFile, site: Site, wire: Wire, log: Log) -> Server:
    most = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
    resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))  # two files for each transfer
    try:
        if not file.state.parent.exists():
            file.state.parent.mkdir(parents=True)
            give(site.settings.account, [file.state.parent])
    except OSError as error:
        problem = f"the folder {file.state.parent} cannot be made ({error.strerror})"
        raise MissingRequirementError(problem, "name another with state = ... in [site]") from None
    tls = server_side(*file.certificate) if file.certificate else None
    signer = _signer(file, wire)
    return Server(
        site, file.files, file.published, file.roots, file.slates, file.uploads, file.state,
        _store(file, site), wire, log.event, tls, signer=signer, secret=file.secret,
    )  # fmt: skip


def _store(file: SiteFile, site: Site) -> Store | SharedStore:
    if file.database is None:
        return Store(file.state)
    from daskel.store.shared_store import SharedStore

    return SharedStore(file.database, site.settings.name, site.own or _ALONE)


def _signer(file: SiteFile, wire: Wire) -> Signer | None:
    """Who practises with a site need not be able to read its key: then nothing is signed."""
    if not file.signing or (wire.loopback and not os.access(file.signing[1], os.R_OK)):
        return None
    return load_signer(*file.signing)


async def _serve(server: Server, file: SiteFile, site: Site, wire: Wire, log: Log) -> ExitCode:
    running_loop, ended = asyncio.get_running_loop(), asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        running_loop.add_signal_handler(number, ended.set)
    running = Running(server, file, log.note, log.use)
    control = ControlService(running, socket_path(file.state))
    await control.serve()
    tasks: set[asyncio.Task[object]] = set()  # SIGHUP: taking over the site file

    on_terminal = sys.stdin.isatty()

    def take_over() -> None:
        if on_terminal and _terminal_gone():
            ended.set()  # its window was closed
            return
        task: asyncio.Task[object] = asyncio.create_task(running.apply())
        tasks.add(task)
        task.add_done_callback(tasks.discard)

    running_loop.add_signal_handler(signal.SIGHUP, take_over)
    await server.start()
    read_toml.cache_clear()  # half a kilobyte for each client
    gc.collect()
    gc.set_threshold(50_000, 20, 50)
    gc.freeze()  # a large site need not be looked through again and again while clients wait
    log.ready(site, wire)
    notify("READY=1", f"STATUS={counted(len(site.clients), 'client')}")
    failure = asyncio.create_task(server.failed())
    waiting = asyncio.create_task(ended.wait())
    done = asyncio.create_task(log.done(server))
    telling = asyncio.create_task(running.tell_roots())
    try:
        await asyncio.wait({failure, waiting, done}, return_when=asyncio.FIRST_COMPLETED)
        if done.done():
            await asyncio.sleep(_LINGERS)
        if failure.done() and not failure.cancelled():
            failure.result()
    finally:
        telling.cancel()
        failure.cancel()
        waiting.cancel()
        done.cancel()
        notify("STOPPING=1")
        await control.close()
        await server.stop()
        log.summary(server)
        log.flush()
    return ExitCode.BAD_NEWS if log.batch and log.batch.left else ExitCode.GOOD


def _terminal_gone() -> bool:
    """The terminal that the server was started on has hung up."""
    try:
        os.close(os.open("/dev/tty", os.O_RDONLY | os.O_NOCTTY))
    except OSError:
        return True
    return False


class Log:
    """Writes events as they come: one event, one line."""

    def __init__(self, output: Output, level: str = "info") -> None:
        self._output = output
        self._least = LEVELS.index(level)
        self._journal = "JOURNAL_STREAM" in os.environ and not output.console.is_terminal
        self._began = time.time()
        self.batch: Batch | None = None  # after which the server ends
        self._last = time.monotonic()  # when something happened
        self._texts = events.JsonTexts()
        self._lines: list[str] = []  # that are written soon
        self._limit = LineLimit()
        self._says_soon: asyncio.TimerHandle | None = None  # what was left out

    def event(self, event: Event, stage: Stage | None) -> None:
        self._last = time.monotonic()
        if self.batch:
            self.batch.happened(event)
        level = events.level(event)
        if LEVELS.index(level) < self._least or not self._limit.takes(event, self._last):
            self._say_left_out_later()
            return
        if self._output.as_json:
            self._json(self._texts.of(event, stage))
        else:
            what, rest = events.words(event)
            self._line(str(event.who), what, rest, "red" if events.bad(event) else "", level)

    def _say_left_out_later(self) -> None:
        if self._limit.has_left_out and self._says_soon is None:
            loop = asyncio.get_running_loop()
            self._says_soon = loop.call_later(WINDOW, self._say_left_out)

    def _say_left_out(self) -> None:
        self._says_soon = None
        for event in self._limit.left_out():
            self.event(event, None)

    async def done(self, server: Server) -> None:
        """Returns when the batch is through, or does not go on; without a batch, never."""
        if self.batch is None:
            await asyncio.Event().wait()
        while self.batch and self.batch.left:
            await asyncio.sleep(_LOOKS)
            if server.under_way:
                self._last = time.monotonic()
            if time.monotonic() - self._last > STILL:
                return

    def use(self, site: Site) -> None:
        """The server answers from another site now."""
        self._texts.use(len(site.clients))
        if self.batch:
            self.batch.use(site)

    def note(self, what: Note, rest: str) -> None:
        """Something that concerns no client."""
        level = "warning" if what in ("warning", "finding", "kept") else "info"
        if LEVELS.index(level) < self._least:
            return
        if self._output.as_json:
            self._json(events.json_text({"event": what, "level": level, "text": rest}))
        else:
            self._line("", what, rest, "", level)

    def ready(self, site: Site, wire: Wire) -> None:
        ports = wire.ports
        self._texts.use(len(site.clients))
        if LEVELS.index("info") < self._least:
            return
        if self._output.as_json:
            ready = {
                "event": "ready",
                "level": "info",
                "ports": vars(ports),
                "loopback": wire.loopback,
            }
            self._json(events.json_text(ready))
            return
        for name, segment in site.served.items():
            where = wire.outside(segment.server)
            self._line("", "segment", f"{name}: {segment.network}, server {where}", "")
        for name, segment in over_ipv6(site).served.items() if not wire.loopback else ():
            gives = "addresses by DHCPv6" if segment.dhcp == "full" else "no addresses"
            text = f"{name}: {segment.network}, server {segment.server}, {gives}"
            self._line("", "segment", text, "")
        if site.own:
            others = [name for name in site.servers if name != site.own]
            text = f"{site.own}; the others are {few(others, 5)}" if others else site.own
            self._line("", "server", text, "")
        numbers = f"DHCP {ports.dhcp}, TFTP {ports.tftp}, HTTP {ports.http}"
        numbers += f", HTTPS {ports.https}" if site.settings.https else ""
        own = site.settings.nfs == "daskel"
        numbers += f", NFS {ports.nfs}" if own else "; NFS by the operating system"
        self._line(
            "", "ready", f"{counted(len(site.clients), 'client')}; {numbers}; Ctrl-C ends", "green"
        )

    def summary(self, server: Server) -> None:
        boots = [b for b in server.history.current.values() if b.client and b.last >= self._began]
        counts = Counter(boot.stage.value for boot in boots)
        text = ", ".join(f"{count} came to {stage}" for stage, count in counts.most_common())
        if self.batch:
            there = len(self.batch.clients) - len(self.batch.left)
            left = f"; not {few(self.batch.left, 10)}" if self.batch.left else ""
            text = f"{there} of {len(self.batch.clients)} have fetched everything{left}"
        self.note("ended", text or "no client came")

    def _json(self, text: str) -> None:
        self._write(f'{{"time": {time.time():.3f}, {text[1:]}')

    def _line(self, who: str, what: str, rest: str, colour: str, level: str = "info") -> None:
        if self._journal:  # which has a clock of its own; sd-daemon(3)
            self._write(f"<{_PRIORITIES[level]}>{who or 'daskel'} {what}: {rest}")
            return
        clock, name = time.strftime("%H:%M:%S"), f"  {who or 'daskel':<17}"
        if not self._output.console.is_terminal:
            self._write(f"{clock}{name} {what:<13} {rest}")
            return
        shown = (name, "bold" if who else "dim")
        self._output.print(Text.assemble((clock, "dim"), shown, (f" {what:<13} {rest}", colour)))
        self._output.out.flush()

    def _write(self, line: str) -> None:
        """A line now; to its reader when all that has happened at once is written."""
        self._lines.append(line + "\n")
        if len(self._lines) == 1:
            try:
                asyncio.get_running_loop().call_soon(self.flush)
            except RuntimeError:  # before the services run
                self.flush()

    def flush(self) -> None:
        lines, self._lines = "".join(self._lines), []
        self._output.out.write(lines)
        self._output.out.flush()


class _Handler(logging.Handler):
    """Warnings of the services, among the log lines."""

    def __init__(self, log: Log) -> None:
        super().__init__()
        self._log = log
        self._said: Counter[str] = Counter()  # lines of each kind
        self._began = time.monotonic()

    def emit(self, record: logging.LogRecord) -> None:
        if time.monotonic() - self._began > WINDOW:
            self._said.clear()
            self._began = time.monotonic()
        self._said[str(record.msg)] += 1
        if self._said[str(record.msg)] > _MOST_WARNINGS:
            return
        reason = f" ({record.exc_info[1]!r})" if record.exc_info else ""
        self._log.note("warning", " ".join((record.getMessage() + reason).split()))
