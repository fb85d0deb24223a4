"""`daskel files add`: the files of a folder or an ISO image, and what boots of them."""

from __future__ import annotations

import argparse
import io
import json
import shutil
from pathlib import Path

from daskel.cli.editing import Change, changing, edit, new_table, owner
from daskel.cli.output import ExitCode, Output, working
from daskel.cli.root_options import may_make
from daskel.cli.site import path_of
from daskel.core.roots.kernels import initrd_kind, kernel_processor, kernel_release
from daskel.core.roots.live import Live, LiveKind, looks_for_its_disc, recognise
from daskel.core.site.finding import did_you_mean
from daskel.core.values import counted, show_size
from daskel.system.roots.importing import bring_files, size_of
from daskel.system.roots.initrds import initrd_names
from daskel.system.roots.new_tree import SourceError
from daskel.system.sitefile import SiteFile


def add_files(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    target = file.files / args.folder
    if args.choice and args.choice not in file.valid.choices:
        hint = did_you_mean(args.choice, file.valid.choices)
        output.error(f"the site has no choice {args.choice}", hint)
        return ExitCode.WRONG_USE
    code = may_make(args, output, target, args.folder, "is in it")
    if code is not None:
        return code
    try:
        with working(output, args.source.name, size_of(args.source)) as progress:
            task = progress.task_ids[0]
            bring_files(args.source, target, lambda size: progress.advance(task, size))
    except (SourceError, OSError) as error:
        where = getattr(error, "filename", None) or args.source
        problem = str(error) if isinstance(error, SourceError) else f"{where}: {error.strerror}"
        output.error(
            problem,
            getattr(error, "remedy", "name a folder or an ISO image that this account can read"),
        )
        return ExitCode.BAD_NEWS
    return _say_added(args, output, file, target)


def _say_added(args: argparse.Namespace, output: Output, file: SiteFile, target: Path) -> ExitCode:
    paths = sorted(path for path in target.rglob("*") if path.is_file() and not path.is_symlink())
    found = [row for path in paths if (row := _recognised(path, file.files))]
    live, disc = _live(args.folder, target, paths, found)
    if live and live.wants_image:
        _keep_image(args.source, target / f"{args.folder}.iso")
    about: dict[str, object] = {"folder": args.folder, "files": len(paths), "found": found}
    about["live"] = live.kind.value if live else None
    if not output.as_json:
        output.print(f"{target} is made: {counted(len(paths), 'file')}.")
        for row in found:
            said = [row.get("release"), row.get("processor"), show_size(int(str(row["size"])))]
            output.print(f"{row['what']} {row['path']}: {', '.join(str(a) for a in said if a)}")
    if live is None:
        return _say_by_hand(args, output, about, found, disc=disc)
    changes, said_so = _changes(args, file, live)
    if not output.as_json:
        output.print(f"It is {live.kind.value}.")
        return edit(args, output, file, changes, said_so)
    text = io.StringIO()  # one document says both
    code = edit(args, Output(as_json=True, out=text), file, changes, said_so)
    told = json.loads(text.getvalue())
    output.json(about | {key: told[key] for key in ("written", "said", "findings") if key in told})
    return code


def _say_by_hand(
    args: argparse.Namespace, output: Output, about: dict[str, object],
    found: list[dict[str, object]], *, disc: bool,
) -> ExitCode:  # fmt: skip
    """What nobody knows the arguments of."""
    kernels = [row["path"] for row in found if row["what"] == "kernel"]
    initrds = [row["path"] for row in found if row["what"] == "initrd"]
    if output.as_json:
        output.json(about)
    elif disc:
        output.print("Its initrd looks for its disc, which is not there without a drive: add the "
                     "installer's network image (netboot/mini.iso) instead.")  # fmt: skip
    elif kernels:
        values = f"kernel={kernels[0]}" + (f" initrd={initrds[0]}" if initrds else "")
        output.print(f"Hand them out with: daskel loadout add {args.folder} {values}")
    if args.choice and not output.as_json:
        output.print(f"The choice {args.choice} stays as it is: there is no loadout for it.")
    return ExitCode.GOOD


def _live(
    folder: str, target: Path, paths: list[Path], found: list[dict[str, object]]
) -> tuple[Live | None, bool]:
    """The system that it is, by what is in it; and whether that looks for its disc."""
    kinds: dict[object, list[str]] = {"kernel": [], "initrd": []}
    for row in found:
        kinds[row["what"]].append(str(row["path"]).removeprefix(f"{folder}/"))
    names = [str(path.relative_to(target)) for path in paths]
    packages: list[str] = []
    for initrd in kinds["initrd"]:
        packages += initrd_names((target / initrd).read_bytes()) or []
    live = recognise(folder, names, kinds["kernel"], kinds["initrd"], packages)
    disc = live is not None and live.kind is LiveKind.INSTALLER and looks_for_its_disc(packages)
    return (None if disc else live), disc


def _keep_image(source: Path, target: Path) -> None:
    """Beside its files: its initrd fetches the whole of it."""
    if source.is_file():
        part = target.with_name(f".{target.name}")
        shutil.copyfile(source, part)
        part.chmod(0o644)
        part.replace(target)


def _changes(
    args: argparse.Namespace, file: SiteFile, live: Live
) -> tuple[list[tuple[Path, Change]], str]:
    """A loadout that boots it, and its place in the menu."""
    name = args.folder
    paths = [f"{name}/{path}" for path in (live.kernel, live.initrd)]
    values = {"kernel": paths[0], "initrd": paths[1:], "args": list(live.arguments)}
    known = name in file.valid.loadouts
    table = ("loadout", name)
    change = changing(table, values) if known else new_table(*table, values)
    changes = [(owner(file, table) if known else path_of(args), change)]
    said = f"The loadout {name} boots it."
    if args.choice:
        entries = file.valid.choices[args.choice].entries
        if name not in entries:
            menu = ("choice", args.choice)
            changes.append((owner(file, menu), changing(menu, {"entries": [*entries, name]})))
        said += f" It stands in the menu of {args.choice}."
    return changes, said


def _recognised(path: Path, files: Path) -> dict[str, object] | None:
    """A kernel with its release and processor, or an initrd; None for anything else."""
    name, size = str(path.relative_to(files)), path.stat().st_size
    with path.open("rb") as file:
        head = file.read(4096)
        processor = kernel_processor(head)
        release = kernel_release(head + file.read()) if processor else None
        if release is not None:
            return {"path": name, "what": "kernel", "release": release, "processor": processor,
                    "size": size}  # fmt: skip
        if (
            not processor
            and initrd_kind(head) not in (None, "squashfs")
            and initrd_names(head + file.read())
        ):
            return {"path": name, "what": "initrd", "size": size}
    return None
