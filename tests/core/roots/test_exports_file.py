"""The exports file of the operating system's NFS server."""

from __future__ import annotations

from daskel.core.roots.exports_file import Exported, exports_text


def test_the_exports_file_of_the_operating_system() -> None:
    addresses = ["10.61.8.22", "10.61.8.21"]
    text = exports_text({
        "/run/a b": Exported(addresses, True, apart=True), "/run/c": Exported([]),
        "/run/d": Exported(["10.61.8.21"], any_port=True),
    })  # fmt: skip
    comment, line, plain = text.splitlines()
    assert comment.startswith("#"), "and nothing for a path that nobody may have"
    path, one, two = line.split(" ")
    assert path == r'"/run/a\040b"' and one.startswith(
        "10.61.8.21(rw,sync,no_root_squash,secure,no_subtree_check,"
    )
    assert one.partition("fsid=")[2] == two.partition("fsid=")[2] != "", "the same file system"
    assert "(ro,sync,no_root_squash,insecure,subtree_check," in plain
