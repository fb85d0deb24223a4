"""Opens the sockets of the services, and says who is in the way when a port is taken."""

from __future__ import annotations

import errno
import socket
from contextlib import suppress

from daskel.system.host.ports import holder
from daskel.system.requirements import MissingRequirementError

_SO_RCVBUFFORCE = 33  # socket(7)
IP_PKTINFO = 8  # ip(7); the socket module has it only from Python 3.14 on


def bind(sock: socket.socket, address: str, port: int) -> socket.socket:
    """Bind `sock`. Raises MissingRequirementError with the process that holds the port."""
    protocol = "udp" if sock.type & socket.SOCK_DGRAM else "tcp"
    try:
        sock.bind((address, port))
    except OSError as error:
        sock.close()
        raise _lacking(error, protocol, address, port) from None
    sock.setblocking(False)
    return sock


def udp(address: str, port: int, *, roomy: bool = False) -> socket.socket:
    """`roomy`: with room for a whole room's messages at once."""
    sock = _of_family(address, socket.SOCK_DGRAM)
    if roomy:
        make_room(sock)
    return bind(sock, address, port)


def _of_family(address: str, kind: socket.SocketKind) -> socket.socket:
    if ":" not in address:
        return socket.socket(socket.AF_INET, kind)
    sock = socket.socket(socket.AF_INET6, kind)
    sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
    return sock


def make_room(sock: socket.socket) -> None:
    """Above the system's limit where that is allowed, as far as it goes where it is not."""
    for option in (socket.SO_RCVBUF, _SO_RCVBUFFORCE):
        with suppress(OSError):
            sock.setsockopt(socket.SOL_SOCKET, option, 4 << 20)


def to_group(address: str, target: tuple[str, int]) -> socket.socket:
    """A socket that sends to a multicast group, on the wire of one address of this machine and not
    through routers. Raises MissingRequirementError and OSError."""
    sock = udp(address, 0)
    try:
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(address))
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, 1)
        sock.connect(target)
    except OSError:
        sock.close()
        raise
    return sock


def tcp(address: str, port: int, interface: str | None = None) -> socket.socket:
    """A listening TCP socket; nobody reaches it but by the `interface`, where one is given. Raises
    MissingRequirementError."""
    sock = _of_family(address, socket.SOCK_STREAM)
    if interface is not None:
        name = interface.encode() + b"\0"
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, name)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    bind(sock, address, port)
    try:
        sock.listen(256)
    except OSError as error:
        sock.close()
        raise _lacking(error, "tcp", address, port) from None
    return sock


def dhcp(interface: str, port: int) -> socket.socket:
    """A socket that gets every broadcast on one interface, and the address each was sent to."""
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
    sock.setsockopt(socket.IPPROTO_IP, IP_PKTINFO, 1)
    make_room(sock)
    try:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode() + b"\0")
    except OSError as error:
        sock.close()
        raise _lacking(error, "udp", f"interface {interface}", port) from None
    return bind(sock, "0.0.0.0", port)


def dhcp6(interface: str, port: int) -> socket.socket:
    """The same for DHCPv6, whose messages go to groups. Raises MissingRequirementError."""
    sock = _of_family("::", socket.SOCK_DGRAM)
    make_room(sock)
    try:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode() + b"\0")
    except OSError as error:
        sock.close()
        raise _lacking(error, "udp", f"interface {interface}", port) from None
    return bind(sock, "::", port)


def _lacking(error: OSError, protocol: str, address: str, port: int) -> MissingRequirementError:
    where = f"port {port}/{protocol} on {address}"
    if error.errno == errno.EADDRINUSE:
        who = holder(protocol, port)
        holding = str(who) if who else "another process (run as root to see which)"
        return MissingRequirementError(
            f"{where} is held by {holding}", "end it, or serve from another machine"
        )
    if error.errno in (errno.EACCES, errno.EPERM):
        return MissingRequirementError(
            f"no permission for {where}", "run as root, or practise with --loopback"
        )
    if error.errno == errno.EADDRNOTAVAIL:
        remedy = f"give it to the interface: ip address add {address}/PREFIX dev INTERFACE"
        return MissingRequirementError(
            f"no interface of this machine has the address {address}", remedy
        )
    if error.errno == errno.ENODEV:
        return MissingRequirementError(
            f"there is no {address}", "correct interface = ... in the site file"
        )
    return MissingRequirementError(f"cannot listen on {where}", error.strerror or str(error))
