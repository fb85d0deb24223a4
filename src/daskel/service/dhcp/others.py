"""Asks the wires now and then whether another DHCP server answers where Daskel is to be alone."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Mapping

from daskel.core.dhcp.client_messages import LOOK, Face, discover
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import NOWHERE
from daskel.core.dhcp.pxe import Firmware
from daskel.core.history.events import OtherServer, Who
from daskel.service.shared import Shared
from daskel.system.host.offers import offers
from daskel.system.requirements import MissingRequirementError

_PAUSE, _WAIT = 600.0, 3.0  # seconds between two looks, and for answers
_ASK = discover(Face.of(Firmware.BIOS), "00:00:00:00:00:00", LOOK)
_log = logging.getLogger(__name__)


class OtherServers:
    """`wires`: a segment with `dhcp = "full"` by the name of its interface."""

    def __init__(self, shared: Shared, wires: Mapping[str, str]) -> None:
        self._shared, self._wires = shared, wires

    async def serve(self) -> None:
        """Look at every wire, again and again, until it is cancelled."""
        while True:
            for interface, segment in self._wires.items():
                await self._look(interface, segment)
            await self._shared.clock.sleep(_PAUSE)

    async def _look(self, interface: str, segment: str) -> None:
        try:
            heard = await asyncio.to_thread(offers, interface, [_ASK], _WAIT)
        except MissingRequirementError as error:
            _log.warning(
                "other DHCP servers on %s are not looked for: %s", interface, error.problem
            )
            return
        for one in heard:
            if one.offer.yiaddr != NOWHERE:  # a proxy adds to our answers, and is welcome
                server = one.offer.address_option(Code.SERVER_ID) or one.address
                if self._shared.peers and self._shared.peers.has(server):
                    continue
                how = f"({one.hardware}) offers {one.offer.yiaddr}"
                self._shared.emit(OtherServer(Who(), segment, server, how))

    def close(self) -> None:
        """Nothing is open between two looks."""
