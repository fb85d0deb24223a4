"""TFTP through a relay that loses one datagram in a hundred, each way taking 2 ms: what windows are
worth then. The baseline is the same client with windows of one block."""

from __future__ import annotations

import random
import sys
import time
from collections.abc import Callable
from pathlib import Path

from common import SERVER, WIRE, compare, daskel

sys.path.insert(0, str(Path(__file__).parents[1]))
from tests.service.files.test_lossy import Relay, fetch

SIZE, BLOCK, DELAY, LOST = 2 << 20, 1400, 0.002, 0.01


def through_a_relay(window: int) -> Callable[[], float]:
    """MB/s, of a whole file."""
    seeds = iter(range(100))

    def run() -> float:
        address = (WIRE.outside(SERVER), WIRE.ports.tftp)
        relay = Relay(address, 0.0, next(seeds), delay=DELAY, lost=LOST)
        relay.start()
        began = time.perf_counter()
        data, granted = fetch(relay.address, "large", window, BLOCK)
        seconds = time.perf_counter() - began
        assert len(data) == SIZE and granted == window
        return SIZE / seconds / 1e6

    return run


def main() -> None:
    with daskel(random.Random(61).randbytes(SIZE)):
        for window in (4, 16):
            title = f"TFTP with 1% of the datagrams lost, 4 ms there and back, window {window}"
            compare(title, "MB/s", through_a_relay(window), ("window 1", through_a_relay(1)))


if __name__ == "__main__":
    main()
