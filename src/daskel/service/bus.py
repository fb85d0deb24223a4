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
        self._all: dict[type[Event], tuple[Callable[[Any], None], ...]] = {}  # told of a kind

    def listen(self, kind: type[Kind], heard: Callable[[Kind], None]) -> None:
        """`heard` is told of every event of one kind; of all, when that is `Event`."""
        self._by_kind[kind].append(heard)
        self._all.clear()

    def tell(self, event: Event) -> None:
        """Tell all who listen for this kind, then all who listen for every one."""
        kind = type(event)
        found = self._all.get(kind)
        if found is None:
            found = self._all[kind] = (*self._by_kind[kind], *self._by_kind[Event])
        for heard in found:
            try:
                heard(event)
            except Exception:  # noqa: BLE001 - a fault of ours ends nothing else
                _log.exception("an event was not dealt with: %s", kind.__name__)
