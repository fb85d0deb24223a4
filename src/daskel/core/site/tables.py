"""The tables of a site file: one class for each kind.

The text under a table and a key is what the reference, `daskel help`, the manual page and the JSON
Schema say of it (`reference`). Lines at its end: `Example:` and `Wrong:` hold a value as it is
written in the file, `Unit:` what a number counts, `Since:` the version that brought the key, where
it is later than the first.
"""

from __future__ import annotations

from collections.abc import Mapping
from ipaddress import IPv6Network
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from daskel.core.site.key_types import (
    Address,
    Address6,
    AddressRange,
    Architectures,
    Argument,
    BootFiles,
    Delivery,
    Duration,
    Fetch,
    Flag,
    KeyPlace,
    Listening,
    LoaderKind,
    Login,
    Mac,
    MacPrefix,
    MemoryAddress,
    MulticastGroup,
    Name,
    Names,
    Network,
    Network6,
    Options,
    Password,
    Place,
    Pool6,
    Rate,
    SecretPath,
    SecureBoot,
    Service,
    Size,
    SlateKind,
    StorePlace,
    Title,
    Whole,
)

OWN_FILES = {  # in a client's view of a root, never in the root itself
    "etc/hostname": "{{ client.name }}\n",
    "etc/hosts": "127.0.0.1 localhost\n127.0.1.1 {{ client.name }}\n::1 localhost\n"
    "{{ segment.server }} daskel\n",
    "etc/machine-id": "{{ client.machine_id }}\n",
    "etc/fstab": "# The root comes from the network; there is no disk to wait for.\n"
    "{{ root.fstab }}\n",
}
FORGET = (  # what makes one machine out of a system that is to be many
    "etc/machine-id",
    "var/lib/dbus/machine-id",
    "etc/ssh/ssh_host_*_key*",
    "var/lib/systemd/random-seed",
    "etc/udev/rules.d/70-persistent-net.rules",
    "etc/adjtime",
    "var/lib/dhcp/*",
    "var/lib/NetworkManager/*",
    "var/log/**",
    "var/cache/apt/archives/*.deb",
    "tmp/*",
    "var/tmp/*",
    "root/.bash_history",
)


class Table(BaseModel):
    """Keys are written with dashes; unknown keys are errors."""

    model_config = ConfigDict(
        extra="forbid",
        frozen=True,
        populate_by_name=True,
        alias_generator=lambda name: name.replace("_", "-"),
    )


Loader = Literal["bios", "uefi-x64", "uefi-x86", "uefi-arm64", "uefi-arm"]


class AtStart:
    """Marks a key of which a server takes over another value only when it starts again."""


def needs_restart(table: type[Table]) -> list[str]:
    """The keys whose values a server reads at its start alone."""
    return [key for key, field in table.model_fields.items() if AtStart in field.metadata]


class Beginning(Table):
    """The keys at the top of the site file, before its first table."""

    format: Literal[1]
    """The version of the site file's own format.

    Example: 1
    Wrong: 2
    """

    include: Names = ()
    """More files of the same form, as patterns of paths relative to this file. They hold every kind
    of table except `[site]`.

    Example: ["clients/*.toml"]
    Wrong: 5
    """

    clients_from: Names = ()
    """CSV files with one client in each row, relative to this file. The first row names the
    columns: `name`, and keys of `[client.NAME]`; several groups or arguments in one cell have
    spaces between them.

    Example: "room.csv"
    Wrong: 5
    """


class LayerTable(Table):
    """A table that is a layer: it can say arguments, options and boot files."""

    args: tuple[Argument, ...] = ()
    """Kernel arguments, added to those of weaker layers (site, segment, groups, loadout, client).
    A later `key=value` replaces all earlier ones of that key, and `-key` removes it. They are
    templates: `daskel explain --variables CLIENT` shows what they can name. An argument with a
    space in it needs double quotes around its value.

    Example: ["quiet", "console=ttyS0,115200", "-splash"]
    Wrong: ["console=tty0 quiet"]
    """

    options: Options = Field(default_factory=dict)
    """DHCP options by name: those of the IANA registry, and your own from `[option.NAME]`. A
    stronger layer's value replaces a weaker one's; `false` switches an option off.

    Example: { ntp-servers = ["10.61.8.1"], desk-broker = "broker.skerry.example" }
    Wrong: { ntp-servers = { first = "10.61.8.1" } }
    """

    boot_file: BootFiles = Field(default_factory=dict)
    """The boot file to hand out instead of Daskel's own boot loader: one for all, or by the name of
    an architecture or of a `[firmware.NAME]`, with `default` for the rest. It may name variables of
    the client, or be an address that begins with http:// or https://. "none" sends none.

    Example: { uefi-x64 = "own/{{ client.name }}.efi", default = "own/start.bin" }
    Wrong: { uefi-x64 = "" }
    """

    fetch: Fetch | None = None
    """What Daskel's boot loader fetches kernel and initrd over, where its firmware came by TFTP:
    HTTP, and TFTP where that does not answer ("http", also when no layer says anything), or TFTP
    alone ("tftp"): there it asks for one block of 1,024 bytes at a time.

    Example: "tftp"
    Wrong: "ftp"
    """

    secure_boot: SecureBoot | None = None
    """What UEFI firmware that boots by PXE is started with: the chain that Secure Boot accepts
    where it is here ("auto", also when no layer says anything), that chain always ("shim"), what
    the site's own key signed ("mok" where it was enrolled for shim, "db" where it was enrolled in
    the firmware), or Daskel's boot loader alone, which Secure Boot refuses ("off"). The chain is
    the distribution's signed shim and GRUB; where Secure Boot is off it goes on to Daskel's boot
    loader.

    Example: "off"
    Wrong: "on"
    """

    loader: LoaderKind | None = None
    """What starts the kernel of UEFI machines, on x86 and ARM of 64 bits: Daskel's boot loader
    ("grub", also when no layer says anything), or the firmware itself ("none"). It gets one image
    then, of kernel, initrds and command line, made for each machine as it asks. Machines that
    can choose, or wait in the lobby, get the boot loader anyway.

    Example: "none"
    Wrong: "fast"
    """


class Signing(Table):
    """The site's own key."""

    certificate: str
    """A file in PEM form with the certificate that machines are given; relative to the site file.

    Example: "keys/site.pem"
    Wrong: 5
    """

    key: str
    """A file in PEM form with its RSA key, without a password, that root alone can read.

    Example: "keys/site.key"
    Wrong: 5
    """


class Https(Table):
    """The same files over HTTPS, for firmware that boots from there."""

    certificate: str
    """A file in PEM form with the certificate, and those that it follows from; relative to the site
    file. `daskel check` says what firmware refuses.

    Example: "boot.pem"
    Wrong: 5
    """

    key: str
    """A file in PEM form with the certificate's key, without a password.

    Example: "boot.key"
    Wrong: 5
    """


class Private(Table):
    """The tunnel (WireGuard) that private roots come through, and where clients keep their keys."""

    network: Network6 = IPv6Network("fd64:6173:6b65::/64")
    """The network inside of the tunnel. The server has its first address, each client one that
    follows from its MAC address; nobody outside sees them.

    Example: "fd61:5eca::/64"
    Wrong: "10.99.0.0/16"
    """

    port: Annotated[Whole, Field(gt=0, lt=65536)] = 51820
    """The UDP port of the tunnel, on the server and on its clients.

    Example: 51820
    Wrong: "wireguard"
    """

    interface: Annotated[str, Field(pattern=r"^[a-z][a-z0-9_-]{0,14}$")] = "daskel0"
    """What the tunnel's interface is called on the server.

    Example: "private0"
    Wrong: "Private 0"
    """

    secret: str = "private.key"
    """The file with the server's key, relative to the site file; made when it is missing. Only root
    can read it.

    Example: "/etc/daskel/private.key"
    Wrong: 5
    """

    key: Annotated[tuple[KeyPlace, ...], Field(min_length=1)] = ("variable", "medium")
    """Where a client looks for its key, one after the other: its TPM 2.0, for machines that boot
    one image (loader = "none"); a variable of its UEFI firmware; a small medium with the label
    DASKEL; or what somebody types at each start.

    Example: ["tpm", "variable", "medium"]
    Wrong: ["disk"]
    """

    secrets: tuple[SecretPath, ...] = ()
    """Files that a client gets through the tunnel alone, each from `files/clients/NAME`, else from
    one of its groups' folders. They are below `/run/daskel/secrets` in its running system: in
    memory, and for root.

    Example: ["wayline/ticket"]
    Wrong: ["../state.db"]
    """


# Tables inside [site].
PARTS: dict[str, type[Table]] = {"https": Https, "signing": Signing, "private": Private}


class SiteTable(LayerTable):
    """What holds for the whole server, and for all clients of which no stronger layer says more."""

    name: str = "Daskel"
    """What the site is called, on screens and in logs.

    Example: "Skerry Point"
    Wrong: 5
    """

    files: Annotated[str, AtStart] = "files"
    """The folder that TFTP and HTTP hand out, relative to the site file: kernels, initrds, anything
    that clients fetch. Nothing outside of it is ever read for a client.

    Example: "/srv/daskel/files"
    Wrong: 5
    """

    roots: Annotated[str, AtStart] = "/srv/daskel/roots"
    """The folder with the root filesystems, relative to the site file.

    Example: "/srv/daskel/roots"
    Wrong: 5
    """

    slates: Annotated[str, AtStart] = "/srv/daskel/slates"
    """The folder with what clients change on their roots, relative to the site file.

    Example: "/srv/daskel/slates"
    Wrong: 5
    """

    uploads: Annotated[str, AtStart] = "uploads"
    """The folder for what clients deliver where an `[upload]` allows it, relative to the site file.

    Example: "/var/lib/daskel/uploads"
    Wrong: 5
    """

    nfs: Annotated[Literal["daskel", "kernel"], AtStart] = "daskel"
    """Whose NFS server hands out roots: Daskel's own, or the operating system's. With "kernel"
    clients go on while Daskel is away, `size` has no effect, and exports are by address alone.

    Example: "kernel"
    Wrong: "kernal"
    """

    tftp_window: Whole = Field(16, ge=1, le=128)
    """The most blocks that a TFTP client may ask for before it acknowledges them (RFC 7440). More
    overruns the buffers of most firmware.

    Unit: blocks
    Example: 8
    Wrong: 1000
    """

    account: Annotated[str | None, AtStart] = None
    """The account that the server goes on as once its ports are open; it must be able to read
    `files`, and to write where the state is. Without it, the server remains root.

    Example: "daskel"
    Wrong: 5
    """

    https: Annotated[Https | None, AtStart] = None
    """Certificate and key for HTTPS; without them, files are handed out over HTTP alone.

    Example: { certificate = "boot.pem", key = "boot.key" }
    Wrong: { certificate = "boot.pem" }
    """

    signing: Annotated[Signing | None, AtStart] = None
    """The key that boot loaders and images without one are signed with, for machines with Secure
    Boot that trust it; `daskel keys make` makes one, and writes this.

    Example: { certificate = "keys/site.pem", key = "keys/site.key" }
    Wrong: { certificate = "keys/site.pem" }
    """

    private: Annotated[Private | None, AtStart] = None
    """The tunnel that private roots come through (`private = true`): [site.private], or in one
    line. {} has all that is usual.

    Example: { network = "fd61:5eca::/64" }
    Wrong: { network = "fd61:5eca::1" }
    """

    state: Annotated[StorePlace, AtStart] = "/var/lib/daskel/state.db"
    """Where leases, machines seen and past boots are kept: a file, relative to the site file, or a
    PostgreSQL database, which several servers can share.

    Example: "postgresql://daskel@db.skerry.example/daskel"
    Wrong: "mysql://db.skerry.example/daskel"
    """

    local: Annotated[str, AtStart] = "/var/lib/daskel"
    """The folder of what a server keeps for itself where `state` is a database: its control socket,
    and the key of its NFS handles. Relative to the site file.

    Example: "/var/lib/daskel"
    Wrong: 5
    """

    keep_elsewhere: Literal["refuse", "fresh"] = "refuse"
    """What becomes of a client that keeps a slate while the server that has it is away, where there
    are several: it gets no address, or another server boots it with a fresh slate.

    Example: "fresh"
    Wrong: "keep"
    """

    keep_boots: Duration = 90 * 86400
    """How long past boots are kept.

    Example: "30d"
    Wrong: "30"
    """

    metrics: Listening | None = None
    """An address and port where the metrics are, in the Prometheus text format, at /metrics.

    Example: "127.0.0.1:9461"
    Wrong: "127.0.0.1"
    """

    loaders: tuple[Loader, ...] = ("bios", "uefi-x64", "uefi-x86", "uefi-arm64", "uefi-arm")
    """The boot loaders that may be handed out. Each is built when the package that it is made from
    is installed.

    Example: ["bios", "uefi-x64"]
    Wrong: ["uefi"]
    """


class Segment(LayerTable):
    """One network of clients: its addresses, and how Daskel takes part in DHCP there."""

    network: Network
    """The network's address, and the length of its mask.

    Example: "10.61.8.0/24"
    Wrong: "10.61.8.9/24"
    """

    server: Annotated[Address, AtStart]
    """This machine's address there, a fixed one. For clients behind a relay agent: an address of
    this machine that they can reach. Where the site has several servers, `[server.NAME]` has them.

    Example: "10.61.8.1"
    Wrong: "10.61.80.1"
    """

    dhcp: Annotated[Literal["full", "proxy", "off"], AtStart]
    """How Daskel takes part in DHCP there: it gives addresses ("full"), adds where to boot beside
    another DHCP server ("proxy"), or says nothing ("off": `daskel handoff` prints what to type into
    the other server).

    Example: "full"
    Wrong: "on"
    """

    interface: Annotated[str | None, AtStart] = None
    """The network interface, where the server's address alone does not tell it.

    Example: "enp3s0"
    Wrong: 5
    """

    relays: Annotated[tuple[Address, ...], AtStart] = ()
    """The relay agents that clients of this segment may come through. No other is answered.

    Example: ["10.61.8.254"]
    Wrong: ["router"]
    """

    shares: Annotated[str | None, AtStart] = None
    """The segment whose wire this one is on, too.

    Example: "quay"
    Wrong: "quai"
    """

    pool: tuple[AddressRange, ...] = ()
    """The addresses that are given out to clients without a fixed one. They lie inside of the
    network, and leave out the server, the router and all fixed addresses.

    Example: ["10.61.8.100 - 10.61.8.199"]
    Wrong: ["10.61.8.199 - 10.61.8.100"]
    """

    router: Address | None = None
    """The clients' default router.

    Example: "10.61.8.254"
    Wrong: "10.61.9.254"
    """

    name_servers: tuple[Address, ...] = ()
    """The name servers that clients are told.

    Example: ["10.61.8.254"]
    Wrong: ["ns.skerry.example"]
    """

    domain: str | None = None
    """The domain that clients are told.

    Example: "tide.skerry.example"
    Wrong: 5
    """

    network6: Network6 | None = None
    """The IPv6 network of the same wire, and the length of its prefix. Firmware that asks over IPv6
    boots there; the others go on as before.

    Example: "fd61:8::/64"
    Wrong: "fd61:8::9/64"
    """

    server6: Annotated[Address6 | None, AtStart] = None
    """This machine's address in `network6`, a fixed one.

    Example: "fd61:8::1"
    Wrong: "10.61.8.1"
    """

    pool6: Annotated[Pool6 | None, AtStart] = None
    """The addresses that are given out by DHCPv6; or "slaac", where machines make their own
    address, and only firmware is given one. Without it another server gives IPv6 addresses:
    `daskel handoff SEGMENT --ipv6` says what it must send.

    Example: ["fd61:8::100 - fd61:8::1ff"]
    Wrong: ["fd61:8::1ff - fd61:8::100"]
    """

    relays6: Annotated[tuple[Address6, ...], AtStart] = ()
    """The same as `relays` for IPv6: the addresses that relay agents send from.

    Example: ["fd61:8::fe"]
    Wrong: ["router"]
    """

    advertise6: Annotated[Flag, AtStart] = False
    """Whether Daskel tells machines of `network6` by router advertisements, where no router does.
    It never says that it is a router itself.

    Example: true
    Wrong: "yes"
    """

    lease: Duration = 8 * 3600
    """How long an address belongs to a client that does not ask for it again.

    Example: "1d"
    Wrong: "8 hours"
    """

    wake_through: Address | None = None
    """The address that magic packets for clients behind a relay agent are sent to: a router or
    machine there that passes them on. Without it, they go to the network's broadcast address.

    Example: "10.61.8.254"
    Wrong: "router"
    """

    bandwidth: Rate | None = None
    """The most that boot files take of the line, over TFTP and HTTP together. Without it: all that
    there is.

    Example: "40 MiB/s"
    Wrong: "40 MiB"
    """

    multicast: MulticastGroup | None = None
    """Whether the image of a root that comes into memory (`delivery = "memory"`) is sent once for
    all machines that boot at the same time: `true`, or the group's address. It needs a wire that
    the server is on itself; who cannot hear it, gets the image over HTTP.

    Example: "239.61.8.1"
    Wrong: "10.61.8.1"
    """

    raw: Annotated[Flag, AtStart] = False
    """Whether machines are answered there that ask for a system in raw Ethernet frames, without IP
    (MOP, RPL). It needs a wire that the server is on itself, and root.

    Example: true
    Wrong: "yes"
    """

    enabled: Flag = True
    """Whether the segment is served. `false`: it is written and checked, and nothing is handed out.

    Example: false
    Wrong: "off"
    """

    unknown: str = "address-only"
    """What happens to a machine that is not in the site: it waits in the lobby ("lobby"), is not
    answered ("refuse"), gets an address and nothing to boot ("address-only"), or boots the loadout
    of that name.

    Example: "lobby"
    Wrong: "loby"
    """

    allow: tuple[MacPrefix, ...] = ()
    """When given, machines that are not in the site are answered only if their MAC address begins
    with one of these.

    Example: ["02:61:08"]
    Wrong: ["tide"]
    """

    refuse: tuple[MacPrefix, ...] = ()
    """MAC addresses, or beginnings of them, that are never answered; also machines of the site.

    Example: ["02:61:08:00:00:99"]
    Wrong: ["02:6"]
    """


class Option(Table):
    """A DHCP option of your own, or one inside another option. Its value is given in `options`."""

    code: Annotated[Whole, Field(ge=1, le=254)]
    """The option's number; inside of another option, the number there.

    Example: 224
    Wrong: 300
    """

    type: Literal[
        "text", "address", "addresses", "u8", "u16", "u32", "boolean", "bytes", "domains", "list"
    ]
    """How its value is written in the message: u8, u16 and u32 are whole numbers of 1, 2 and 4
    bytes, "bytes" is hexadecimal text, "domains" are names as RFC 3397 packs them, and "list" holds
    the options that name it as `inside`.

    Example: "text"
    Wrong: "string"
    """

    inside: str | None = None
    """The name of the option that carries it.

    Example: "vendor-specific"
    Wrong: 5
    """

    vendor: str | None = None
    """Only clients whose vendor class (option 60) begins with this get it.

    Example: "desk-terminal"
    Wrong: 5
    """

    srv: Service | None = None
    """The same as a DNS record (RFC 2782), for clients that ask there: service, protocol and port.
    `daskel handoff --dns` prints it.

    Example: "_desk-broker._tcp 4172"
    Wrong: "desk-broker 4172"
    """

    @property
    def service(self) -> tuple[str, str, int] | None:
        """Service, protocol and port of the SRV record (RFC 2782) that says the same."""
        if self.srv is None:
            return None
        name, port = self.srv.split()
        service, _, protocol = name.rpartition("._")
        return service[1:], protocol, int(port)


class FirmwareKind(Table):
    """A kind of machine, known by what its firmware sends. All that is given must fit."""

    architecture: Architectures = ()
    """Architecture types (RFC 4578, option 93), by number or by name.

    Example: ["bios", 7]
    Wrong: { first = 7 }
    """

    vendor_class: str | None = None
    """A pattern that its vendor class (option 60) fits; * and ? stand for any characters.

    Example: "PXEClient:Arch:00000:*"
    Wrong: 5
    """

    user_class: str | None = None
    """A pattern that its user class (option 77) fits.

    Example: "desk-*"
    Wrong: 5
    """


class Root(Table):
    """A root filesystem, and what clients may change of it."""

    path: str | None = None
    """Its folder below the site's `roots`; the root's name when not given.

    Example: "desktops/notebook"
    Wrong: 5
    """

    private: Flag = False
    """Whether it comes through an encrypted tunnel alone, to clients whose key was admitted: nobody
    on the wire reads or changes what they read and write. See `private` in [site].

    Example: true
    Wrong: "yes"
    """

    delivery: Delivery = "files"
    """How the root comes to its clients: its files by NFS ("files"), a sealed version as one
    compressed image of which each block is read when it is needed ("blocks"), or the whole image
    into the client's memory, after which it needs the server no more ("memory").

    Example: "blocks"
    Wrong: "nfs"
    """

    slate: SlateKind = "none"
    """What a client may change: nothing ("none"), everything until it boots anew ("fresh"), or
    everything for good ("keep").

    Example: "keep"
    Wrong: "kept"
    """

    size: Size | None = None
    """The size at which one client's slate is full; each name counts for 1 KiB. Without it: the
    room on the server's disk.

    Example: "2 GiB"
    Wrong: "2"
    """

    own: Mapping[str, str] = OWN_FILES
    """Files that are made for each client and never written into the root: path and template.

    Example: { "etc/hostname" = "{{ client.name }}" }
    Wrong: { "etc/hostname" = 5 }
    """

    ports: Literal["reserved", "any"] = "reserved"
    """The ports that a client's NFS calls may come from: below 1024, which only the client's own
    kernel can use, or any, which lets all of its programs in.

    Example: "any"
    Wrong: "all"
    """

    up: Flag = False
    """Views get a small service (systemd) that tells Daskel when the system is up.

    Example: true
    Wrong: "yes"
    """

    forget: tuple[str, ...] = FORGET
    """What must not be the same on many machines, as patterns of paths: left out when a version is
    sealed.

    Example: ["etc/machine-id", "var/log/**"]
    Wrong: [5]
    """


class Loadout(LayerTable):
    """What a client is loaded with, or that it starts from its own disk."""

    title: Title | None = None
    """What a menu calls it; its name when not given.

    Example: "Notebook"
    Wrong: ""
    """

    password: Password | None = None
    """Who chooses it in a menu must type the password of this hash; grub-mkpasswd-pbkdf2 makes one.

    Example: "grub.pbkdf2.sha512.10000.0A1B.2C3D"
    Wrong: "tide"
    """

    kernel: str | None = None
    """The kernel, below `files`. Without it, and with a root: the kernel and initrd of the version
    of the root that the client gets.

    Example: "notebook/vmlinuz"
    Wrong: 5
    """

    initrd: Names = ()
    """The initrds, below `files`, in the order in which they are unpacked; after the root's own
    where the kernel is the root's.

    Example: ["notebook/initrd.img"]
    Wrong: 5
    """

    root: str | None = None
    """The root filesystem. Daskel puts root=, nfsroot=, ip=, BOOTIF= and ro or rw in front of the
    arguments; those that you write yourself are used instead.

    Example: "notebook"
    Wrong: "notebok"
    """

    private: Flag | None = None
    """Whether the root comes through an encrypted tunnel alone; as the root says when not given.

    Example: true
    Wrong: "yes"
    """

    delivery: Delivery | None = None
    """How the root comes; as the root says when not given.

    Example: "memory"
    Wrong: "ram"
    """

    boot: Literal["local"] | None = None
    """The client starts from its own disk.

    Example: "local"
    Wrong: "disk"
    """

    raw: str | None = None
    """The system of a machine that asks for it in raw Ethernet frames, below `files`: an image as
    it lies in memory. The segment must say `raw = true`.

    Example: "terminal-server/wwng.sys"
    Wrong: 5
    """

    load: MemoryAddress = 0
    """The address that the image is loaded to; most machines count it from a place of their own.

    Example: 0x5200
    Wrong: -1
    """

    start: MemoryAddress | None = None
    """The address at which the image begins to run; `load` when not given.

    Example: 0x5204
    Wrong: -1
    """

    names: Mapping[str, str] = {}
    """Images for machines that ask for one by name, in upper or lower case. Of other names, the
    file of that name below `files` is taken, where there is one.

    What a machine that asks by RPL calls itself counts as such a name where it stands here.

    Example: { "WWNG2" = "terminal-server/wwng.sys" }
    Wrong: ["WWNG2"]
    """

    parts: Mapping[str, MemoryAddress] = {}
    """Further images of a system that is made of several, each with the address that it is loaded
    to: they are sent in this order after the image that was asked for.

    Example: { "terminal-server/floppy.img" = 0x100000 }
    Wrong: ["terminal-server/floppy.img"]
    """

    @property
    def leaves(self) -> bool:
        """There is nothing in it for a boot loader: its machine starts from its own disk, or by
        other means."""
        return self.boot == "local" or self.in_raw_frames

    @property
    def in_raw_frames(self) -> bool:
        """Its machine asks in raw Ethernet frames, and knows no IP."""
        return self.kernel is None and self.boot is None and bool(self.raw or self.names)


class Choice(Table):
    """A menu on the client's screen."""

    entries: Annotated[tuple[Name, ...], Field(min_length=1)]
    """The loadouts to choose from.

    Example: ["notebook", "disk"]
    Wrong: ["notebok"]
    """

    default: str | None = None
    """What boots when nobody chooses; the first entry when not given.

    Example: "disk"
    Wrong: "dsk"
    """

    wait: Duration = 10
    """How long the menu waits for a key.

    Example: "30s"
    Wrong: "30"
    """

    title: Title | None = None
    """What stands above the menu.

    Example: "What shall this machine be today?"
    Wrong: ""
    """

    hidden: Flag = False
    """The menu is not shown until a key is pressed.

    Example: true
    Wrong: "yes"
    """

    @property
    def chosen(self) -> str:
        """What boots when nobody chooses."""
        return self.default or self.entries[0]


class File(Table):
    """A computed file; its path is the table's name, and may name variables of the client.

    It needs one of the three keys. With `folder`, the path ends with /* and stands for every file
    below it: the client's own where there is one, else the one of the same name in that folder,
    which all share.
    """

    text: str | None = None
    """What it holds: a template.

    Example: "{{ arguments }} hostname={{ client.name }}"
    Wrong: 5
    """

    template: str | None = None
    """A file with the template, relative to the site file.

    Example: "cmdline.template"
    Wrong: "nowhere.template"
    """

    folder: str | None = None
    """A folder below `files`.

    Example: "boards"
    Wrong: 5
    """


class Upload(Table):
    """A folder that clients may put new files into, with TFTP's write requests. Its path is the
    table's name, ends with /*, and may name variables of the client: then each has its own."""

    size: Size = 1 << 20
    """The most that one file may have.

    Example: "4 MiB"
    Wrong: 4
    """

    files: Whole = Field(100, ge=1)
    """The most files in one folder.

    Unit: files
    Example: 20
    Wrong: 0
    """


class Server(Table):
    """One of several servers that look after the same site, and share its store. Each has a copy of
    the site file; `daskel serve --as NAME` says which one a machine is, where its addresses do not
    tell."""

    addresses: dict[str, Address] = Field(default_factory=dict, min_length=1)
    """Its address on each segment that it serves, by the segment's name. A segment needs no
    `server` then.

    Example: { tideroom = "10.61.8.1", quay = "10.61.11.1" }
    Wrong: { tideroom = "10.61.8" }
    """

    addresses6: dict[str, Address6] = Field(default_factory=dict)
    """Its IPv6 address on each segment that it serves over IPv6, in the place of `server6`.

    Example: { tideroom = "fd61:8::1" }
    Wrong: { tideroom = "10.61.8.1" }
    """

    login: Login | None = None
    """Where `daskel root send` and `daskel slate move` log in by ssh, to copy to it; root at its
    first address when not given.

    Example: "root@south.skerry.example"
    Wrong: "-root"
    """


class Group(LayerTable):
    """Clients that share settings."""

    segment: str | None = None
    """The segment that they are on.

    Example: "tideroom"
    Wrong: "tiderom"
    """

    boot: str | None = None
    """A loadout, or a choice.

    Example: "notebook"
    Wrong: "notebok"
    """

    slate: SlateKind | None = None
    """What they may change; the root's own `slate` when not given.

    Example: "fresh"
    Wrong: "wiped"
    """

    private: Flag | None = None
    """Whether the root comes through an encrypted tunnel alone; as the root says when not given.

    Example: true
    Wrong: "yes"
    """

    delivery: Delivery | None = None
    """How their root comes; as their loadout or the root says when not given.

    Example: "memory"
    Wrong: "ram"
    """

    firmware: str | None = None
    """The firmware that they have: an architecture's name. It goes before what was seen, and lets
    `explain`, `check`, `rehearse` and `handoff` work before they were ever switched on.

    Example: "uefi-x64"
    Wrong: 5
    """


class Client(LayerTable):
    """One machine."""

    mac: Mac
    """The MAC address of the network card that it boots from, in any common spelling.

    Example: "02:61:08:00:00:01"
    Wrong: "02:61:08:00:00"
    """

    group: Names = ()
    """The groups that it belongs to; a later one is stronger.

    Example: "tide"
    Wrong: "tied"
    """

    segment: str | None = None
    """The segment that it is on; its group's when not given.

    Example: "tideroom"
    Wrong: "tiderom"
    """

    boot: str | None = None
    """A loadout, or a choice; its group's when not given.

    Example: "notebook"
    Wrong: "notebok"
    """

    slate: SlateKind | None = None
    """What it may change; its group's or the root's when not given.

    Example: "fresh"
    Wrong: "wiped"
    """

    private: Flag | None = None
    """Whether the root comes through an encrypted tunnel alone; as the root says when not given.

    Example: true
    Wrong: "yes"
    """

    delivery: Delivery | None = None
    """How its root comes; as its loadout, its groups or the root say when not given.

    Example: "memory"
    Wrong: "ram"
    """

    firmware: str | None = None
    """The firmware that it has: an architecture's name. It goes before what was seen.

    Example: "uefi-x64"
    Wrong: 5
    """

    address: Address | None = None
    """Its fixed address, outside of the pool. Without it: one from the pool, the same each time as
    long as it can be.

    Example: "10.61.8.21"
    Wrong: "10.61.8.150"
    """

    address6: Address6 | None = None
    """Its fixed IPv6 address, outside of the pool.

    Example: "fd61:8::21"
    Wrong: "10.61.8.21"
    """

    place: Place | None = None
    """Where it stands in its room: the row and the number in it, for `daskel watch --room`.

    Example: "A3"
    Wrong: "third"
    """

    uuid: str | None = None
    """Its system's UUID, for templates.

    Example: "1d4c0f86-0000-4000-8000-026108000001"
    Wrong: 5
    """

    serial: str | None = None
    """Its serial number, for templates: some boards ask for files below it.

    Example: "8f3a21c0"
    Wrong: 5
    """


TABLES: dict[str, type[Table]] = {
    "segment": Segment,
    "option": Option,
    "firmware": FirmwareKind,
    "root": Root,
    "loadout": Loadout,
    "choice": Choice,
    "file": File,
    "upload": Upload,
    "server": Server,
    "group": Group,
    "client": Client,
}
