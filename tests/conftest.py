"""Shared fixtures: the demo site in memory and on disk, and the installed program."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Callable, Generator, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from importlib.resources import files
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any, TypeVar

import pytest
from hypothesis import HealthCheck, settings

from daskel.cli.practice_server import free_base, release_base
from daskel.core.boot.wire import Ports, Wire
from daskel.core.site.model import Site
from daskel.core.site.parse import parse
from daskel.demo.data import lay_out
from daskel.system.control_client import ask
from tests.formats import check_event, check_printed

settings.register_profile(  # no test depends on how fast the machine is
    "daskel", deadline=None, max_examples=100, suppress_health_check=[HealthCheck.too_slow]
)
settings.load_profile("daskel")

# How long a test waits for a process or a socket: as long as it takes. What hangs is ended by the
# time limit of the test (pytest-timeout), and then the logs of every process are shown.
PATIENCE = None


class SiteText(str):
    """The text of a site file: what is replaced in it must be there."""

    __slots__ = ()

    def replace(self, old: str, new: str, count: int = -1, /) -> SiteText:  # type: ignore[override]
        assert old in self, f"not in the text: {old!r}"
        return SiteText(super().replace(old, new, count))

    def __add__(self, more: str, /) -> SiteText:
        return SiteText(super().__add__(more))


DEMO = SiteText(files("daskel.demo").joinpath("daskel.toml").read_text())
SERVER = IPv4Address("10.61.8.1")


def replaced(text: str, *pairs: str) -> SiteText:
    """A site's text with each old part, which must be there, replaced by the new one after it."""
    made = SiteText(text)
    for old, new in zip(pairs[::2], pairs[1::2], strict=True):
        made = made.replace(old, new)
    return made


def site_from(text: str) -> Site:
    parsed = parse(str(text), "daskel.toml")
    assert parsed.site and not parsed.findings, parsed.findings
    return parsed.site


@pytest.fixture(scope="session")
def demo_site() -> Site:
    return site_from(DEMO)


@pytest.fixture
def demo_folder(tmp_path: Path) -> Path:
    """The demo site on disk."""
    lay_out(tmp_path)
    return tmp_path


def daskel(*words: str | Path, cwd: Path | None = None) -> subprocess.CompletedProcess[str]:
    """Run the installed program."""
    command = [str(Path(sys.executable).with_name("daskel")), *map(str, words)]
    done = subprocess.run(
        command, cwd=cwd, capture_output=True, text=True, timeout=PATIENCE, check=False
    )
    check_printed(list(map(str, words)), done.stdout)
    return done


Found = TypeVar("Found")


def until(true: Callable[[], Found], what: object = "", pause: float = 0.1) -> Found:
    """What is found when there is something. `what`, or what it returns, is shown when the time of
    the test is over before."""
    try:
        while not (found := true()):
            time.sleep(pause)
        return found
    except BaseException:
        print(what() if callable(what) else what)  # noqa: T201 - shown with a test that failed
        raise


@dataclass
class Serving:
    """A running `daskel serve --loopback`, its log as JSON lines."""

    folder: Path
    process: subprocess.Popen[bytes]
    log: Path
    wire: Wire
    base: int = 0  # of its ports

    def events(self, name: str | None = None) -> list[dict[str, Any]]:
        """All that happened before: it is written when the server has answered once more."""
        if self.process.poll() is None:
            with suppress(OSError):  # it ends just now
                ask(self.folder / "state.socket", "status")
        return self._written(name)

    def _written(self, name: str | None) -> list[dict[str, Any]]:
        whole = self.log.read_text().rpartition("\n")[0]  # the last line may still be written
        found = [json.loads(line) for line in whole.splitlines()]
        for event in found:
            check_event(event)
        return [event for event in found if name in (None, event["event"])]

    def wait_for(self, name: str, **fields: object) -> dict[str, Any]:
        """The last event of that name with those fields."""

        def found() -> list[dict[str, Any]]:
            there = [event for event in self._written(name) if fields.items() <= event.items()]
            assert there or self.process.poll() is None, self.log.read_text()
            return there

        return until(found, lambda: f"no event {name}: {self.log.read_text()}", 0.02)[-1]

    def stop(self, number: int = signal.SIGTERM) -> int:
        self.process.send_signal(number)
        return self.process.wait(PATIENCE)

    def address(self, server: str = "10.61.8.1") -> str:
        return self.wire.outside(IPv4Address(server))


Serve = Callable[..., Serving]
_RUNNING: list[Serving] = []  # of the tests that run
_SHOWN = 60  # lines of each log


@pytest.fixture
def serve(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Serve]:
    """Start servers on loopback; all are ended after the test."""
    yield from _servers(tmp_path_factory)


@pytest.fixture(scope="module")
def serve_for_all(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Serve]:
    """The same, for all tests of a module."""
    yield from _servers(tmp_path_factory)


def _servers(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Serve]:
    started: list[Serving] = []

    def start(folder: Path, *before: str, more: Sequence[str] = ()) -> Serving:
        """`before`: words in front of the command; `more`: behind it."""
        base = free_base()
        log = tmp_path_factory.mktemp("serve") / "log"
        command = [str(Path(sys.executable).with_name("daskel")), "serve", "--json"]
        command += ["--site", str(folder / "daskel.toml"), "--loopback", str(base)]
        process = subprocess.Popen(
            [*before, *command, *more], stdout=log.open("wb"), stderr=subprocess.STDOUT
        )
        wire = Wire(Ports.from_base(base), loopback=True)
        serving = Serving(folder, process, log, wire, base)
        started.append(serving)
        _RUNNING.append(serving)
        serving.wait_for("ready")
        return serving

    yield start
    for serving in started:
        if serving.process.poll() is None:
            serving.stop(signal.SIGKILL)
    for serving in started:
        _RUNNING.remove(serving)
        release_base(serving.base)
        text = serving.log.read_text(errors="replace")
        assert "Traceback" not in text and "a fault of Daskel" not in text, (
            f"a process of the server failed:\n{text}"
        )


# --- what a test that fails shows, and how long tests took ---


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(
    item: pytest.Item,
) -> Generator[None, pytest.TestReport, pytest.TestReport]:
    """The logs of every process of a test that failed."""
    report = yield
    if report.failed:
        places = {getattr(v, "folder", None) for v in getattr(item, "funcargs", {}).values()}
        places |= {getattr(v, "log", None) for v in getattr(item, "funcargs", {}).values()}
        logs = [place for place in places if isinstance(place, Path) and place.is_file()]
        for folder in (place for place in places if isinstance(place, Path) and place.is_dir()):
            logs += [path for end in ("log", "errors", "console", "qemu")
                     for path in sorted(folder.glob(f"*.{end}"))]  # fmt: skip
        logs += [serving.log for serving in _RUNNING]
        for log in logs:
            lines = log.read_text(errors="replace").splitlines()[-_SHOWN:]
            report.sections.append((f"log {log}", "\n".join(lines)))
    return report


def pytest_terminal_summary(terminalreporter: Any) -> None:
    """Seconds for each folder."""
    seconds: Counter[str] = Counter()
    for reports in terminalreporter.stats.values():
        for report in reports:
            if isinstance(report, pytest.TestReport):
                seconds[report.nodeid.partition("::")[0].rpartition("/")[0]] += report.duration
    terminalreporter.section("seconds for each folder")
    for folder, spent in seconds.most_common():
        terminalreporter.line(f"{spent:8.1f}  {folder}")
    terminalreporter.line(f"{sum(seconds.values()):8.1f}  all")
