"""The exports file of the operating system's NFS server."""

from __future__ import annotations

from daskel.core.roots.exports_file import exports_text


def test_the_exports_file_of_the_operating_system() -> None:
    text = exports_text({"/run/a b": (["10.61.8.22", "10.61.8.21"], True), "/run/c": ([], False)})
    comment, line = text.splitlines()
    assert comment.startswith("#"), "and nothing for a path that nobody may have"
    path, one, two = line.split(" ")
    assert path == r'"/run/a\040b"' and one.startswith("10.61.8.21(rw,sync,no_root_squash")
    assert one.partition("fsid=")[2] == two.partition("fsid=")[2] != "", "the same file system"
    assert (
        exports_text({"/run/a b": (["10.61.8.21"], False)})
        .splitlines()[1]
        .split(",")[0]
        .endswith("(ro")
    )
