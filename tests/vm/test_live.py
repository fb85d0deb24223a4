"""A live system as it came: an ISO image made here of Debian's own packages, booted to its prompt."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pycdlib
import pytest

from tests.vm import guest
from tests.vm.lab import PROGRAM, TIDEROOM, Lab, with_machines

pytestmark = [pytest.mark.extended, *with_machines("debootstrap", "mksquashfs")]
SITE = f"""{TIDEROOM}[loadout.disk]
boot = "local"
[choice.tideroom]
entries = ["disk"]
wait = "1s"
[group.tide]
segment = "tideroom"
boot = "tideroom"
[client.tide-01]
mac = "02:61:08:00:00:01"
group = "tide"
"""


def live_image(folder: Path) -> Path:
    """Of the packages live-boot and live-config, as they make their own initrd."""
    roots = folder / "live-roots"
    roots.mkdir()
    subprocess.run(["cp", "-a", guest.debian(), roots / "live"], check=True)
    (folder / "live.toml").write_text('format = 1\n[site]\nroots = "live-roots"\n[root.live]\n')
    words = "apt-get -qq update && apt-get -qq install -y --no-install-recommends live-boot"
    command = [PROGRAM, "root", "edit", "live", "--site", folder / "live.toml", "--"]
    subprocess.run(
        [*command, "sh", "-c", f"{words} live-boot-initramfs-tools wget busybox"], check=True
    )
    tree = roots / "live"
    system = folder / "filesystem.squashfs"
    subprocess.run(
        ["mksquashfs", tree, system, "-quiet", "-no-progress", "-comp", "zstd", "-Xcompression-level",
         "3", "-wildcards", "-e", "boot", "proc/*", "sys/*", "dev/*", "run/*"], check=True,
    )  # fmt: skip
    image = pycdlib.PyCdlib()
    image.new(rock_ridge="1.09", interchange_level=3)
    image.add_directory("/LIVE", rr_name="live")
    kernel, initrd = next(tree.glob("boot/vmlinuz-*")), next(tree.glob("boot/initrd.img-*"))
    for name, path, long in (("VMLINUZ", kernel, "vmlinuz"), ("INITRD", initrd, "initrd.img"),
                             ("SYSTEM", system, "filesystem.squashfs")):  # fmt: skip
        image.add_file(str(path), f"/LIVE/{name}.;1", rr_name=long)
    image.write(str(folder / "live.iso"))
    image.close()
    return folder / "live.iso"


def test_to_its_prompt(tmp_path: Path) -> None:
    (tmp_path / "files").mkdir()
    (tmp_path / "daskel.toml").write_text(SITE)
    image = live_image(tmp_path)
    lab = Lab(tmp_path)
    said = lab.daskel("files", "add", "live", str(image), "--choice", "tideroom")
    assert "It is a live system (live-boot)." in said, said
    lab.daskel("assign", "tide-01", "live")
    lab.open()
    try:
        lab.serve(tmp_path / "daskel.toml")
        machine = lab.boot("live", "02:61:08:00:00:01", "bios")
        machine.log_in()
        machine.type("echo GUEST'' root $(grep ' / ' /proc/mounts)")
        machine.wait_for("GUEST root overlay")
        machine.process.kill()
    finally:
        lab.close()
