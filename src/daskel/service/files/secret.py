"""Secret files of one client, which come through the tunnel alone (`secrets` in [site.private])."""

from __future__ import annotations

import logging
import os
from collections.abc import Iterator

from daskel.core.content.computed import may_have, own_places
from daskel.core.history.events import Who
from daskel.service.shared import Shared
from daskel.system.host.confined_open import why_not

_LARGEST = 1 << 20  # bytes of one
_log = logging.getLogger(__name__)


def secrets_of(shared: Shared, who: Who) -> Iterator[tuple[str, bytes]]:
    """Path and content of each that there is for this client."""
    site = shared.site_of(who)
    rules = site.settings.private
    for path in rules.secrets if rules and who.name else ():
        try:
            descriptor, size, place = shared.files.find(*own_places(site, who, path))
        except FileNotFoundError:
            continue  # it has none of that name
        except OSError as error:
            _log.warning("%s does not get its secret %s: %s", who.name, path, why_not(error))
            continue
        with os.fdopen(descriptor, "rb") as file:
            if not may_have(site, who, place):  # whose name differs in upper and lower case
                continue
            if size > _LARGEST:
                _log.warning("%s does not get its secret %s: it has %d bytes, %d at most",
                             who.name, path, size, _LARGEST)  # fmt: skip
                continue
            yield path, file.read(_LARGEST)
