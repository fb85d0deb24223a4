"""Publishing what roots boot with, by the commands that change roots, and before a server runs."""

from __future__ import annotations

import os
from collections.abc import Iterable

from daskel.cli.output import Output
from daskel.cli.root_options import root_of
from daskel.cli.site import question
from daskel.core.site.model import Site
from daskel.core.site.own_kernels import with_published
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.publishing import sent_of
from daskel.system.sitefile import SiteFile


def publish(file: SiteFile, output: Output, only: str | None = None) -> Site:
    """Publish the kernels of the roots whose loadouts boot them, or of one of these, and tell the
    server that runs; the site with them. What cannot be published is said."""
    site = file.valid
    wanted = {site.loadouts[name].root or "" for name in site.own_kernels}
    changed = published(file, sorted(wanted if only is None else wanted & {only}), output)
    if not changed:
        return site
    question(file, "renew")
    file.site = with_published(site, file.published.read())
    return file.site


def published(file: SiteFile, roots: Iterable[str], output: Output) -> bool:
    """Whether clients boot with anything else from now on."""
    changed = False
    for name in roots:
        try:
            sent = sent_of(file.valid, name)
            changed = file.published.publish(name, root_of(file, name), sent) or changed
        except PermissionError as error:
            if os.geteuid() == 0:
                output.error(f"{error.filename}: {error.strerror}", "check its permissions")
        except OSError as error:
            place = error.filename or file.published.folder
            problem = f"the kernel of the root {name} is not published: {place}: {error.strerror}"
            output.error(problem, "make room, and run: daskel apply")
        except MissingRequirementError as error:
            output.error(error.problem, error.remedy)
    return changed
