"""One client of many is changed and taken over: how long the server answers nobody meanwhile, how
long `apply` takes, and what memory a large site takes."""

from __future__ import annotations

import subprocess
import sys
import threading
import time
from pathlib import Path

import dhcp
from common import RUNS, WIRE, at_most, daskel, small, udp
from growth import clients

from daskel.core.dhcp.client_messages import SYSTEM, discover
from daskel.core.dhcp.packet import serialise

FEW, MANY = 10, small(5000)
PAUSE = 0.0003  # seconds between two questions


class Asking:
    """Questions one after the other, and how long each answer took, in milliseconds."""

    def __init__(self) -> None:
        self.took: list[float] = []
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._ask)
        self._thread.start()

    def _ask(self) -> None:
        number = 0
        with udp("127.0.0.1") as sock:
            sock.settimeout(5)
            while not self._ended.is_set():
                number += 1
                data = serialise(discover(SYSTEM, dhcp._mac(number % FEW), number))[0]
                began = time.perf_counter()
                sock.sendto(data, (dhcp.ADDRESS, WIRE.ports.dhcp))
                while sock.recv(2048)[4:8] != data[4:8]:
                    pass
                self.took.append((time.perf_counter() - began) * 1000)
                time.sleep(PAUSE)

    def close(self) -> None:
        self._ended.set()
        self._thread.join()


def taken_over(path: Path, number: int) -> tuple[float, float]:
    """Milliseconds of the longest answer meanwhile, and seconds of the command."""
    head = f"[client.c{number}]\n"
    path.write_text(path.read_text().replace(head, f'{head}args = ["quiet"]\n'))
    asking = Asking()
    time.sleep(0.5)
    asking.took.clear()
    began = time.perf_counter()
    command = [sys.executable, "-m", "daskel", "apply", "--yes", "--site", str(path)]
    subprocess.run(command, check=True, capture_output=True)
    took = time.perf_counter() - began
    time.sleep(0.2)
    asking.close()
    return max(asking.took), took


def main() -> None:
    memory = []
    for count in (FEW, MANY):
        with daskel(more=clients(count)) as folder:
            time.sleep(1)
            memory.append(dhcp._memory(int((folder / "process").read_text())))
            if count == MANY:
                path = folder / "daskel.toml"
                found = [taken_over(path, number) for number in range(RUNS)]
    longest, took = (list(column) for column in zip(*found, strict=True))
    title = f"`apply` of one of {MANY} clients"
    at_most(f"{title}: longest time without an answer", "ms", longest, 10)
    at_most(f"{title}: the command", "s", took)
    at_most("memory of the server at its start", "MiB", [memory[0] / 1024], 70)
    at_most(f"memory for each of {MANY} clients", "kB", [(memory[1] - memory[0]) / MANY], 4)


if __name__ == "__main__":
    main()
