"""Every check of a site that needs neither this machine nor its disk, in one place."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from daskel.core.audit.deliveries import check_deliveries
from daskel.core.audit.ipv6 import check_ipv6
from daskel.core.audit.private import check_private
from daskel.core.boot.arguments import check_arguments
from daskel.core.boot.wire import Ports
from daskel.core.content.computed import check_files
from daskel.core.content.upload_rules import check_uploads
from daskel.core.replies.answer import check_sizes
from daskel.core.replies.bootfile import check_boot_files
from daskel.core.replies.options import check_options
from daskel.core.roots.views import check_own
from daskel.core.site.check import check
from daskel.core.site.finding import Finding
from daskel.core.site.model import Site


def check_site(site: Site, only: Collection[str] | None = None) -> Iterator[Finding]:
    """What is wrong with a site. `only`: look closely at these clients alone."""
    ports = Ports()
    yield from check(site, only)
    yield from check_options(site)
    yield from check_boot_files(site)
    yield from check_arguments(site, ports, only)
    yield from check_deliveries(site, only)
    yield from check_private(site)
    yield from check_files(site, ports, only)
    yield from check_uploads(site)
    yield from check_own(site, only)
    yield from check_sizes(site, ports)
    yield from check_ipv6(site, ports, only)
