"""What the virtual machines boot: Debian's kernel, an initrd made here, and a small root."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from pathlib import Path

from daskel.core.content.signed_chain import CHAINS
from daskel.core.content.unified_images import stub_package, stub_path, stub_source

CACHE = Path(__file__).parents[2] / ".cache" / "kernel"
_ARM64 = CACHE.with_name("kernel-arm64")  # and a busybox for it
_WANTED = ("virtio_pci", "virtio_net", "nfsv3")

INIT = """\
#!/bin/busybox sh
export PATH=/bin
/bin/busybox mkdir -p /proc /sys /dev /root
/bin/busybox --install -s /bin
mount -t proc proc /proc; mount -t sysfs sysfs /sys; mount -t devtmpfs dev /dev
for module in $(cat /order); do insmod /$module; done
for word in $(cat /proc/cmdline); do
  case $word in
    nfsroot=*) nfsroot=${word#nfsroot=} ;;
    BOOTIF=*) mac=$(echo ${word#BOOTIF=01-} | tr - :) ;;
  esac
done
for face in /sys/class/net/*; do
  [ "$(cat $face/address)" = "$mac" ] && interface=${face##*/}
done
echo "GUEST interface $interface"
ip link set lo up; ip link set $interface up
udhcpc -i $interface -n -q -t 10 -O rootpath -s /udhcpc || echo "GUEST no lease"
from=${nfsroot%%,*}; options=${nfsroot#*,}
if mount -t nfs -o ro,$options $from /root; then
  mount --move /dev /root/dev
  exec switch_root /root /sbin/hello
fi
echo "GUEST could not mount $nfsroot"
poweroff -f
"""

UDHCPC = """\
#!/bin/busybox sh
[ "$1" = bound ] || exit 0
ip address add $ip/$mask dev $interface
[ -n "$router" ] && ip route add default via $router
echo "GUEST address $ip hostname $hostname rootpath $rootpath"
"""

HELLO = """\
#!/bin/sh
mount -t proc proc /proc
echo "GUEST name $(hostname_of_cmdline)"
echo "GUEST arguments $(cat /proc/cmdline)"
echo "GUEST file $(cat /etc/greeting)"
echo "GUEST link $(cat /etc/link)"
echo "GUEST names $(ls /usr/share/many | wc -l)"
echo "GUEST root $(grep ' / nfs ' /proc/mounts)"
(echo x > /etc/new) 2>/dev/null && echo "GUEST wrote to a read-only root"
echo "GUEST waits for a key"
read key
echo "GUEST sum $(md5sum < /usr/share/large)"
echo "GUEST end"
poweroff -f
"""


def kernel(processor: str = "amd64") -> Path:
    """Debian's cloud kernel, unpacked and not installed: fetched once into .cache."""
    folder = _folder(processor)
    if found := list(folder.glob("boot/vmlinuz-*")):
        return found[0]
    depends = _run("apt-cache", "depends", f"linux-image-cloud-{processor}:{processor}")
    package = re.search(r"Depends: (linux-image-[\w.+:-]+)", depends)
    assert package, "apt knows no cloud kernel; run apt-get update"
    _unpack(package[1], folder)
    return next(folder.glob("boot/vmlinuz-*"))


def signed_chain(files: Path) -> None:
    """Debian's shim and signed GRUB below `files`, unpacked and not installed: fetched once into
    .cache."""
    folder, chain = CACHE.with_name("signed"), CHAINS["uefi-x64"]
    for package in (*chain.packages, "shim-helpers-amd64-signed"):
        if not (folder / package).exists():
            _unpack(package, folder / package)
    for path, own in chain.files.items():
        (found,) = folder.glob(f"*{own}")
        (files / path).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(found, files / path)


def stub(files: Path) -> None:
    """What images without a boot loader are made with, below `files`, in the same way."""
    folder, chain = CACHE.with_name("stub"), CHAINS["uefi-x64"]
    if not folder.exists():
        _unpack(stub_package(chain), folder)
    target = files / stub_path(chain)
    target.parent.mkdir(parents=True, exist_ok=True)
    shutil.copy(f"{folder}{stub_source(chain)}", target)


def vax_rom() -> Path:
    """A VAX's ROM, which is in the source package of its simulator: fetched once into .cache."""
    found = CACHE.parent / "simh/ka655x.bin"
    if not found.exists():
        found.parent.mkdir(parents=True, exist_ok=True)
        uri = _run("apt-get", "download", "--print-uris", "simh").split("'")[1]
        source = f"{uri.rpartition('/')[0]}/simh_3.8.1.orig.tar.gz"
        _run(
            "curl",
            "--fail",
            "--silent",
            "--show-error",
            "--output",
            found.with_name("source"),
            source,
        )
        _run(
            "tar",
            "-xzf",
            found.with_name("source"),
            "-C",
            found.parent,
            "simh-3.8.1/VAX/ka655x.bin_old",
        )
        (found.parent / "simh-3.8.1/VAX/ka655x.bin_old").rename(found)
    return found


def busybox(processor: str) -> Path:
    """This machine's own, or one for another processor, unpacked."""
    if processor == "amd64":
        return Path("/bin/busybox")
    found = _folder(processor) / "bin/busybox"
    if not found.exists():
        _unpack(f"busybox-static:{processor}", _folder(processor))
    return found


def _folder(processor: str) -> Path:
    return CACHE if processor == "amd64" else _ARM64


def _unpack(package: str, folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    subprocess.run(["apt-get", "download", package], cwd=folder, check=True, capture_output=True)
    (archive,) = folder.glob("*.deb")
    subprocess.run(["dpkg-deb", "-x", archive, folder], check=True)
    archive.unlink()


USER, PASSWORD = "tess", "low water 7"  # who can log in to it
_PACKAGES = ("linux-image-cloud-amd64", "stress-ng", "git", "tcc", "libc6-dev")
EXERCISE = """\
#!/bin/sh
# What a person and a program do with a root of their own.
cd /var/tmp
case $1 in
first)
  dpkg -i /root/small.deb >/dev/null 2>&1 && echo "GUEST installed $(dpkg-query -W -f '${Version}' hello)"
  for i in $(seq 20); do
    dd if=/dev/urandom of=part-$i bs=1M count=10 status=none && md5sum part-$i >>sums && echo "GUEST wrote $i"
  done
  sync; echo 3 >/proc/sys/vm/drop_caches
  md5sum -c --quiet sums && echo "GUEST sums good"
  git clone -q /root/hello.git hello-1 && tcc -o hello-1/hello hello-1/hello.c && echo "GUEST built $(hello-1/hello)"
  stress-ng --verify --timeout 8 --temp-path /var/tmp --dentry 1 --dentries 256 --dir 1 --dir-dirs 256 \
    --rename 1 --link 1 --symlink 1 --chmod 1 --utime 1 --seek 1 --seek-size 4M --hdd 1 --hdd-bytes 32M \
    >/tmp/stress 2>&1 &&
    echo "GUEST exercised" || tail -20 /tmp/stress
  su nobody -s /bin/sh -c 'touch /etc/not-mine' 2>/dev/null || echo "GUEST nobody may not write"
  ;;
again)
  echo "GUEST package $(dpkg-query -W -f '${Version}' hello 2>/dev/null || echo none)"
  md5sum -c --quiet sums 2>/dev/null && echo "GUEST sums good" || echo "GUEST no sums"
  ;;
behave)
  mount -t tmpfs -o mode=755 none /mnt
  perl /root/behaviours.pl /mnt/b >/run/memory 2>&1
  perl /root/behaviours.pl /var/b >/run/root 2>&1
  echo "GUEST behaviours $(wc -l </run/root)"
  diff /run/memory /run/root | grep '^[<>]' | sed 's/^/GUEST differs /'
  ;;
esac
echo "GUEST host $(hostname) $(cut -c1-4 /etc/machine-id)"
echo "GUEST root $(grep ' / nfs ' /proc/mounts)"
echo "GUEST done"
"""


def debian() -> Path:
    """A system that `daskel root build` made once, in .cache; a small package lies in it."""
    made = CACHE.parent / "debian"
    if made.is_dir():
        return made
    work = CACHE.parent / "debian.work"
    shutil.rmtree(work, ignore_errors=True)
    (work / "files").mkdir(parents=True)
    (work / "daskel.toml").write_text('format = 1\n[site]\nroots = "roots"\nstate = "state.db"\n')
    program, words = Path(sys.executable).with_name("daskel"), ["root", "build", "notebook"]
    (work / "password").write_text(f"{PASSWORD}\n")
    words += ["--list", "text-terminal", "--user", USER, "--password-file", str(work / "password")]
    words += ["--keyboard", "gb", "--locale", "en_GB.UTF-8", "--time-zone", "Europe/Lisbon"]
    packages = [f"--package={package}" for package in _PACKAGES]
    subprocess.run([program, *words, *packages, "--site", work / "daskel.toml"], check=True)
    root = work / "roots/notebook"
    subprocess.run(
        ["apt-get", "download", "hello"], cwd=root / "root", check=True, capture_output=True
    )
    next((root / "root").glob("hello_*.deb")).rename(root / "root/small.deb")
    repository = root / "root/hello"
    repository.mkdir()
    source = '#include <stdio.h>\nint main(void) { puts("good"); return 0; }\n'
    (repository / "hello.c").write_text(source)
    commit = "-c user.name=t -c user.email=t@skerry.example commit -qm hello"
    for line in ("init -q", "add hello.c", commit, "clone -q --bare . ../hello.git"):
        subprocess.run(["git", *line.split()], cwd=repository, check=True)
    shadow = root / "etc/shadow"
    shadow.write_text(re.sub("^root:[^:]*:", "root::", shadow.read_text(), flags=re.MULTILINE))
    root.rename(made)
    shutil.rmtree(work)
    return made


def write_exercises(root: Path) -> None:
    """What such a system is to do, below its /root."""
    (root / "root/exercise").write_text(EXERCISE)
    (root / "root/exercise").chmod(0o755)
    shutil.copy(Path(__file__).with_name("behaviours.pl"), root / "root/behaviours.pl")


def _run(*command: str) -> str:
    return subprocess.run(command, check=True, capture_output=True, text=True).stdout


def write_initrd(
    target: Path, processor: str = "amd64", *, without: str = "", release: bytes = b""
) -> None:
    """busybox, the kernel's modules for virtio and NFS in their order, and INIT. `without`: a
    module that is left out; `release`: of another kernel, which the modules say they are for."""
    folder, own = _folder(processor), kernel(processor).name.removeprefix("vmlinuz-").encode()
    modules = {
        str(path.relative_to(folder)): path.read_bytes()
        for path in _modules(_WANTED, folder) if path.stem != without
    }  # fmt: skip
    if release:
        modules = {
            name.replace(own.decode(), release.decode()): data.replace(own, release)
            for name, data in modules.items()
        }
    files = {
        "bin/busybox": busybox(processor).read_bytes(),
        "init": INIT.encode(),
        "udhcpc": UDHCPC.encode(),
        "order": "\n".join(modules).encode(),
        **modules,
    }
    above = {str(parent) for name in modules for parent in Path(name).parents} - {"."}
    folders = ("bin", "dev", *sorted(above))
    entries = [_cpio(name, b"", 0o040755) for name in folders]
    entries += [_cpio(name, data, 0o100755) for name, data in files.items()]
    target.parent.mkdir(parents=True, exist_ok=True)
    target.write_bytes(b"".join(entries) + _cpio("TRAILER!!!", b"", 0))


def _modules(wanted: tuple[str, ...], folder: Path) -> list[Path]:
    """The module files, each behind those that it depends on."""
    files = {path.stem.replace("-", "_"): path for path in folder.rglob("*.ko")}
    order: dict[str, Path] = {}

    def add(name: str) -> None:
        depends = re.search(rb"\0depends=([^\0]*)\0", files[name].read_bytes())
        assert depends, name
        for other in filter(None, depends[1].decode().replace("-", "_").split(",")):
            add(other)
        order.setdefault(name, files[name])

    for name in wanted:
        add(name)
    return list(order.values())


def _cpio(name: str, data: bytes, mode: int) -> bytes:
    """One entry of an archive in the format newc, which Linux reads as an initrd."""
    numbers = (0, mode, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(name) + 1, 0)
    head = b"070701" + b"".join(b"%08x" % number for number in numbers)
    named = head + name.encode() + b"\0"
    return named + bytes(-len(named) % 4) + data + bytes(-len(data) % 4)


def write_root(folder: Path, greeting: str, large: bytes, processor: str = "amd64") -> None:
    """A root whose init says what it got, and powers off."""
    for name in ("bin", "sbin", "etc", "dev", "proc", "usr/share/many"):
        (folder / name).mkdir(parents=True, exist_ok=True)
    shutil.copy(busybox(processor), folder / "bin" / "busybox")
    for applet in ("sh", "mount", "cat", "ls", "wc", "md5sum", "grep", "poweroff", "sed"):
        (folder / "bin" / applet).symlink_to("busybox")
    (folder / "bin" / "hostname_of_cmdline").write_text(
        "#!/bin/sh\nsed -n 's/.*hostname=\\([^ ]*\\).*/\\1/p' /proc/cmdline\n"
    )
    (folder / "bin" / "hostname_of_cmdline").chmod(0o755)
    (folder / "sbin" / "hello").write_text(HELLO)
    (folder / "sbin" / "hello").chmod(0o755)
    (folder / "etc" / "greeting").write_text(greeting + "\n")
    (folder / "etc" / "link").symlink_to("greeting")
    (folder / "usr/share/large").write_bytes(large)
    for number in range(500):
        (folder / "usr/share/many" / f"file-{number:03}").touch()
