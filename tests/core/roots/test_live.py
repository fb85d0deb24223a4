"""Live systems and installers, told by the names in their images."""

from __future__ import annotations

from collections.abc import Sequence

import pytest

from daskel.core.roots.live import LiveKind, looks_for_its_disc, recognise

RELEASES = ["live/vmlinuz-6.1.0-9-amd64", "live/vmlinuz-6.1.0-41-amd64"]
CASES: list[tuple[Sequence[str], Sequence[str], Sequence[str], Sequence[str], object]] = [
    (["live/filesystem.squashfs", "boot/grub/grub.cfg"], ["live/vmlinuz"], ["live/initrd.img"], [],
     (LiveKind.LIVE_BOOT, "live/vmlinuz", "live/initrd.img",
      "fetch=http://{{ segment.host }}/rescue/live/filesystem.squashfs")),
    (["live/extra.squashfs", "live/filesystem.squashfs"], RELEASES,
     ["live/initrd.img-6.1.0-41-amd64", "live/initrd.img-6.1.0-9-amd64"], [],
     (LiveKind.LIVE_BOOT, RELEASES[0], "live/initrd.img-6.1.0-9-amd64",
      "fetch=http://{{ segment.host }}/rescue/live/filesystem.squashfs")),
    (["live/filesystem.squashfs"], ["install/vmlinuz", "live/vmlinuz"],
     ["install/initrd.gz", "live/initrd.img"], [],
     (LiveKind.LIVE_BOOT, "live/vmlinuz", "live/initrd.img", "boot=live")),
    (["casper/filesystem.squashfs"], ["casper/vmlinuz"], ["casper/initrd"], [],
     (LiveKind.CASPER, "casper/vmlinuz", "casper/initrd",
      "url=http://{{ segment.host }}/rescue/rescue.iso")),
    ([], ["linux"], ["initrd.gz"], ["bin/sh", "usr/share/debian-installer/x"],
     (LiveKind.INSTALLER, "linux", "initrd.gz", "interface=auto")),
    (["live/filesystem.squashfs"], [], ["live/initrd.img"], [], None),
    (["live/filesystem.squashfs"], ["live/vmlinuz"], [], [], None),
    (["some/filesystem.squashfs"], ["some/vmlinuz"], ["some/initrd.img"], ["init"], None),
]  # fmt: skip


@pytest.mark.parametrize(("names", "kernels", "initrds", "packages", "expected"), CASES)
def test_recognise(
    names: Sequence[str], kernels: Sequence[str], initrds: Sequence[str],
    packages: Sequence[str], expected: object,
) -> None:  # fmt: skip
    found = recognise("rescue", names, kernels, initrds, packages)
    if found is None or not isinstance(expected, tuple):
        assert found is expected
        return
    kind, kernel, initrd, argument = expected
    assert (found.kind, found.kernel, found.initrd) == (kind, kernel, initrd)
    assert argument in found.arguments and "BOOTIF=01-{{ client.mac_dashed }}" in found.arguments
    assert found.wants_image is (kind is LiveKind.CASPER)


def test_an_installer_of_a_disc_is_told_from_one_of_the_network() -> None:
    assert looks_for_its_disc(["var/lib/dpkg/info/cdrom-detect.postinst"])
    assert not looks_for_its_disc(["var/lib/dpkg/info/net-retriever.postinst"])
