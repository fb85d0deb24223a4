"""What real machines would make of a kernel and its initrd: a simulated client runs neither."""

from __future__ import annotations

from daskel.core.roots.inspect import initrd_findings
from daskel.core.site.finding import Severity
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.rehearse.client import SimulatedBoot
from daskel.system.roots.inside import listed
from daskel.system.roots.inspecting import handed
from daskel.system.roots.roots import RootFolder
from daskel.system.sitefile import SiteFile


class Initrds:
    """Of one site; each loadout is read once."""

    def __init__(self, file: SiteFile, site: Site) -> None:
        self._file, self._site = file, site
        self._known: dict[tuple[str, str], tuple[str, str, list[str]]] = {}

    def judged(self, boot: SimulatedBoot) -> tuple[str, str, list[str]]:
        """The first thing that would keep a machine from its root, what to do, and what is not
        sure to; also sets how far it would come."""
        loadout_name = effective(self._site, boot.name).loadout_name
        loadout = self._site.loadouts.get(loadout_name or "")
        kinds = {got.what for got in boot.files}
        if (
            loadout is None
            or not loadout.root
            or not ({"kernel", "image"} & kinds and "root" in kinds)
        ):
            return "", "", []
        key = str(loadout_name), loadout.root
        if key not in self._known:
            self._known[key] = self._read(*key)
        if self._known[key][0]:
            boot.stage = "initrd"
        return self._known[key]

    def _read(self, loadout: str, root: str) -> tuple[str, str, list[str]]:
        folder = RootFolder(self._file.roots, self._site.root_path(root))
        tree = folder.version(folder.state().used)
        found = handed(self._site, loadout, tree, self._file.files)
        findings = list(initrd_findings(found))
        modules = [path.name for path in listed(tree, "lib/modules")]
        warnings = [f.problem for f in findings if f.severity is not Severity.ERROR]
        if found.release and modules and found.release not in modules:
            there = ", ".join(modules)
            warnings.append(
                f"the kernel of loadout {loadout} is {found.release}; the root has modules of: "
                f"{there}"
            )
        bad = next((f for f in findings if f.severity is Severity.ERROR), None)
        return (bad.problem, bad.remedy, warnings) if bad else ("", "", warnings)
