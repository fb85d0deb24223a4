"""What a client tells when its system runs: the script that Daskel offers, and what it sends.

One HTTP request with three lines: seconds since the kernel started, its release, its command line.
"""

from __future__ import annotations

from collections.abc import Mapping
from ipaddress import IPv4Address

from daskel.core.boot.wire import host
from daskel.core.reader import MalformedError

SCRIPT = "daskel/up.sh"  # the path of the script, over TFTP and HTTP
IN_ROOT = "/etc/daskel/up.sh"  # and in a root
TOLD_AT = "daskel/up"  # where it is told, over HTTP
LIMIT = 16 << 10  # bytes
_SCRIPT = r"""#!/bin/sh
# Tells Daskel that this system runs, and with what. Run it at the end of the system's start.
server=@SERVER@ port=@PORT@ path=/@PATH@ url=http://@HOST@:@PORT@
read -r uptime rest </proc/uptime
told="uptime=$uptime
kernel=$(uname -r)
arguments=$(cat /proc/cmdline)"
request() {
  printf 'POST %s HTTP/1.0\r\nHost: %s\r\nContent-Length: %s\r\n\r\n%s' \
    "$path" "${url#http://}" "${#told}" "$told"
}
has() { command -v "$1" >/dev/null 2>&1; }
for try in 1 2 3; do
  if has curl; then
    curl -fsS -g --max-time 20 --data-binary "$told" "$url$path" && exit
  elif has bash; then
    request | bash -c "exec 3<>/dev/tcp/$server/$port && cat >&3 && grep -q ' 20[0-9] ' <&3" && exit
  elif has busybox; then
    request | busybox nc -w 20 "$server" "$port" | grep -q ' 20[0-9] ' && exit
  elif has perl; then
    request | perl -MIO::Socket::IP -e '
      my $s = IO::Socket::IP->new(PeerHost => $ARGV[0], PeerPort => $ARGV[1]) or exit 1; local $/;
      print $s <STDIN>; exit(<$s> =~ / 20\d /s ? 0 : 1)' "$server" "$port" && exit
  elif has nc; then
    request | nc -w 20 "$server" "$port" | grep -q ' 20[0-9] ' && exit
  else
    echo "daskel: curl, bash, busybox, perl or nc is needed to tell that this system is up" >&2
    exit 1
  fi
  sleep 5
done
exit 1
"""
_SERVICE = """[Unit]
Description=Tell Daskel that this system is up
After=network-online.target multi-user.target graphical.target

[Service]
Type=oneshot
ExecStart=/bin/sh /etc/daskel/up.sh

[Install]
WantedBy=multi-user.target
"""


def script(server: IPv4Address, port: int) -> str:
    """The script that tells that a system is up, for one server and HTTP port."""
    values = {"@SERVER@": str(server), "@HOST@": host(server), "@PORT@": str(port)}
    values["@PATH@"] = TOLD_AT
    text = _SCRIPT
    for name, value in values.items():
        text = text.replace(name, value)
    return text


def files(server: IPv4Address, port: int) -> Mapping[str, str]:
    """What a view of a root needs so that its system tells by itself (systemd)."""
    return {
        IN_ROOT.lstrip("/"): script(server, port),
        "etc/systemd/system/daskel-up.service": _SERVICE,
        "etc/systemd/system/multi-user.target.d/daskel.conf": "[Unit]\nWants=daskel-up.service\n",
    }


def told(uptime: float, arguments: str) -> bytes:
    """What a simulated client tells."""
    return f"uptime={uptime:.2f}\nkernel=simulated\narguments={arguments}\n".encode()


def parse(body: bytes) -> tuple[float, str, str]:
    """Read what a client told: uptime in seconds, kernel, arguments. Raises MalformedError."""
    lines = (line.partition("=") for line in body.decode("utf-8", "replace").splitlines())
    said = {key.strip(): value.strip() for key, _, value in lines}
    if missing := {"uptime", "kernel", "arguments"} - said.keys():
        raise MalformedError(f"up: without {', '.join(sorted(missing))}")
    try:
        uptime = float(said["uptime"])
    except ValueError:
        raise MalformedError(f"up: uptime {said['uptime'][:20]!r} is not a number") from None
    if not 0 <= uptime < 1e9:
        raise MalformedError(f"up: uptime {uptime} is no time since a start")
    if not (said["kernel"].isprintable() and said["arguments"].isprintable()):
        raise MalformedError("up: control characters")
    return uptime, said["kernel"][:200], said["arguments"][:8192]
