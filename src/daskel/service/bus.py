"""Events, to all who listen for their kind."""

from __future__ import annotations

import logging
from collections import defaultdict
from collections.abc import Callable
from typing import Any, TypeVar

from daskel.core.history.events import Event

_log = logging.getLogger(__name__)
Kind = TypeVar("Kind", bound=Event)


class Bus:
    """Listeners are told in the order in which they began to listen; one that fails keeps nothing
    from the others."""

    def __init__(self) -> None:
        self._by_kind: defaultdict[type[Event], list[Callable[[Any], None]]] = defaultdict(list)

    def listen(self, kind: type[Kind], heard: Callable[[Kind], None]) -> None:
        """`heard` is told of every event of one kind; of all, when that is `Event`."""
        self._by_kind[kind].append(heard)

    def tell(self, event: Event) -> None:
        """Tell all who listen for this kind, then all who listen for every one."""
        for kind in (type(event), Event):
            for heard in self._by_kind.get(kind, ()):
                try:
                    heard(event)
                except Exception:  # noqa: BLE001 - a fault of ours ends nothing else
                    _log.exception("an event was not dealt with: %s", type(event).__name__)
