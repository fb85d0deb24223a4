"""`daskel serve`: runs all services in the foreground and logs every event."""

from __future__ import annotations

import argparse
import asyncio
import gc
import json
import logging
import os
import resource
import signal
import sys
import time
from collections import Counter

from rich.text import Text

from daskel.cli import events
from daskel.cli.output import ExitCode, Output
from daskel.cli.site import json_argument, open_site, site_argument
from daskel.core.boot.stages import Event, Stage, stage_after
from daskel.core.boot.wire import Ports, Wire
from daskel.core.site.model import Site
from daskel.service.control import ControlService, Running
from daskel.service.server import Server
from daskel.system.asking import socket_path
from daskel.system.bootloader import build_missing
from daskel.system.lacking import LackingError
from daskel.system.sitefile import SiteFile

EXAMPLE = ("daskel serve", "daskel serve --loopback        # practise: no root, no network")
_LOOPBACK_BASE = 20000
_SWITCH = 0.0005  # seconds: the thread that writes leases must not wait for the one that answers


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--loopback",
        nargs="?",
        type=_base,
        const=_LOOPBACK_BASE,
        metavar="BASE",
        help="practise on this machine alone: loopback addresses, port numbers moved up by BASE "
        f"(default {_LOOPBACK_BASE}), no root needed",
    )
    site_argument(parser)
    json_argument(parser)


def _base(text: str) -> int:
    if not text.isdigit() or not 1024 <= int(text) <= 61000:
        raise argparse.ArgumentTypeError("a number from 1024 to 61000 is needed")
    return int(text)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = open_site(args, output, checked=True)
    if isinstance(file, ExitCode):
        return file
    assert file.site
    log = Log(output)
    sys.setswitchinterval(_SWITCH)
    logging.basicConfig(handlers=[_Handler(log)], level=logging.WARNING)
    for path in build_missing(file.files, file.site.settings.loaders):
        log.note("built", f"boot loader {path}")
    wire = Wire(Ports.from_base(args.loopback), True) if args.loopback else Wire()
    return asyncio.run(_serve(_server(file, file.site, wire, log), file, file.site, wire, log))


def _server(file: SiteFile, site: Site, wire: Wire, log: Log) -> Server:
    most = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
    resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))  # two files for each transfer
    try:
        file.state.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        problem = f"the folder {file.state.parent} cannot be made ({error.strerror})"
        raise LackingError(problem, "name another with state = ... in [site]") from None
    return Server(site, file.files, file.roots, file.slates, file.state, wire, log.event)


async def _serve(server: Server, file: SiteFile, site: Site, wire: Wire, log: Log) -> ExitCode:
    loop, ended = asyncio.get_running_loop(), asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, ended.set)
    running = Running(server, file, log.stages, log.note)
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

    loop.add_signal_handler(signal.SIGHUP, take_over)
    await server.start()
    gc.collect()
    gc.freeze()  # a large site need not be looked through again and again while clients wait
    log.ready(site, wire)
    failure = asyncio.create_task(server.failed())
    waiting = asyncio.create_task(ended.wait())
    try:
        await asyncio.wait({failure, waiting}, return_when=asyncio.FIRST_COMPLETED)
        if failure.done() and not failure.cancelled():
            failure.result()
    finally:
        failure.cancel()
        waiting.cancel()
        await control.close()
        await server.stop()
    log.summary()
    return ExitCode.GOOD


def _terminal_gone() -> bool:
    """The terminal that the server was started on has hung up."""
    try:
        os.close(os.open("/dev/tty", os.O_RDONLY | os.O_NOCTTY))
    except OSError:
        return True
    return False


class Log:
    """Writes events as they come, and remembers how far each client came."""

    def __init__(self, output: Output) -> None:
        self._output = output
        self.stages: dict[str, Stage] = {}
        self._flushes = False  # soon

    def event(self, event: Event) -> None:
        key = str(event.who)
        stage = stage_after(self.stages.get(key), event)
        if stage is not None and event.who.name:
            self.stages[key] = stage
        if self._output.as_json:
            self._json(events.as_json(event, stage.value if stage else None))
        else:
            what, rest = events.words(event)
            self._line(key, what, rest, "red" if events.bad(event) else "")

    def note(self, what: str, rest: str) -> None:
        """Something that concerns no client."""
        if self._output.as_json:
            self._json({"event": what, "text": rest})
        else:
            self._line("", what, rest, "")

    def ready(self, site: Site, wire: Wire) -> None:
        ports = wire.ports
        if self._output.as_json:
            self._json({"event": "ready", "ports": vars(ports), "loopback": wire.loopback})
            return
        for name, segment in site.served.items():
            where = wire.outside(segment.server)
            self._line("", "segment", f"{name}: {segment.network}, server {where}", "")
        numbers = f"DHCP {ports.dhcp}, TFTP {ports.tftp}, HTTP {ports.http}, NFS {ports.nfs}"
        self._line("", "ready", f"{len(site.clients)} clients; {numbers}; Ctrl-C ends", "green")

    def summary(self) -> None:
        counts = Counter(stage.value for stage in self.stages.values())
        text = ", ".join(f"{count} came to {stage}" for stage, count in counts.most_common())
        self.note("ended", text or "no client came")

    def _json(self, value: dict[str, object]) -> None:
        line = json.dumps({"time": round(time.time(), 3), **value}, ensure_ascii=False, default=str)
        self._write(line)

    def _line(self, who: str, what: str, rest: str, colour: str) -> None:
        clock, name = time.strftime("%H:%M:%S"), f"  {who or 'daskel':<17}"
        if not self._output.console.is_terminal:
            self._write(f"{clock}{name} {what:<13} {rest}")
            return
        shown = (name, "bold" if who else "dim")
        self._output.print(Text.assemble((clock, "dim"), shown, (f" {what:<13} {rest}", colour)))
        self._output.out.flush()

    def _write(self, line: str) -> None:
        """A line now; to its reader when all that has happened at once is written."""
        self._output.out.write(line + "\n")
        if not self._flushes:
            self._flushes = True
            try:
                asyncio.get_running_loop().call_soon(self._flush)
            except RuntimeError:  # before the services run
                self._flush()

    def _flush(self) -> None:
        self._flushes = False
        self._output.out.flush()


class _Handler(logging.Handler):
    """Warnings of the services, among the log lines."""

    def __init__(self, log: Log) -> None:
        super().__init__()
        self._log = log

    def emit(self, record: logging.LogRecord) -> None:
        reason = f" ({record.exc_info[1]!r})" if record.exc_info else ""
        self._log.note("warning", " ".join((record.getMessage() + reason).split()))
