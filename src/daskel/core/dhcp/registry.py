"""The IANA registry of BOOTP and DHCP options: code, name, type, and where it is defined.

Names are those of the registry or of the defining RFC, in lower case with dashes; where those
name a product, what it is for.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class OptionRule:
    """One option. `type` is a name in `options.TYPES`."""

    code: int
    name: str
    type: str
    source: str  # RFC and section, or where else it is defined


# name, type; in the order of their codes from 1, all of RFC 2132
_RFC_2132 = """\
subnet-mask address
time-offset i32
router addresses
time-server addresses
name-server addresses
domain-name-server addresses
log-server addresses
cookie-server addresses
lpr-server addresses
impress-server addresses
resource-location-server addresses
host-name text
boot-file-size u16
merit-dump-file text
domain-name text
swap-server address
root-path text
extensions-path text
ip-forwarding boolean
non-local-source-routing boolean
policy-filter address-pairs
maximum-datagram-reassembly-size u16
default-ip-time-to-live u8
path-mtu-aging-timeout u32
path-mtu-plateau-table u16s
interface-mtu u16
all-subnets-are-local boolean
broadcast-address address
perform-mask-discovery boolean
mask-supplier boolean
perform-router-discovery boolean
router-solicitation-address address
static-route address-pairs
trailer-encapsulation boolean
arp-cache-timeout u32
ethernet-encapsulation boolean
tcp-default-ttl u8
tcp-keepalive-interval u32
tcp-keepalive-garbage boolean
nis-domain text
nis-servers addresses
ntp-servers addresses
vendor-specific list
netbios-name-server addresses
netbios-datagram-distribution-server addresses
netbios-node-type u8
netbios-scope bytes
x-window-font-server addresses
x-window-display-manager addresses
requested-address address
lease-time seconds
overload u8
message-type message-type
server-identifier address
parameter-request-list codes
message text
maximum-message-size u16
renewal-time seconds
rebinding-time seconds
vendor-class text
client-identifier bytes
ip-over-ipx-domain text
ip-over-ipx-option bytes
nis3-domain text
nis3-servers addresses
tftp-server-name text
boot-file-name text
mobile-ip-home-agent addresses
smtp-server addresses
pop3-server addresses
nntp-server addresses
www-server addresses
finger-server addresses
irc-server addresses
directory-server addresses
directory-assistance-server addresses
"""

_LATER = """\
77 user-class bytes RFC 3004
78 directory-agent bytes RFC 2610
79 service-scope bytes RFC 2610
80 rapid-commit flag RFC 4039
81 client-fqdn bytes RFC 4702
82 relay-agent-information bytes RFC 3046
83 isns bytes RFC 4174
85 directory-servers addresses RFC 2241
86 directory-tree-name text RFC 2241
87 directory-context text RFC 2241
88 bcmcs-controller-domains domains RFC 4280
89 bcmcs-controller-addresses addresses RFC 4280
90 authentication bytes RFC 3118
91 client-last-transaction-time u32 RFC 4388
92 associated-ip addresses RFC 4388
93 client-architecture u16s RFC 4578 2.1
94 client-network-interface bytes RFC 4578 2.2
95 ldap text RFC 3679
97 client-machine-identifier bytes RFC 4578 2.3
98 user-authentication text RFC 2485
99 geoconf-civic bytes RFC 4776
100 posix-timezone text RFC 4833
101 database-timezone text RFC 4833
108 ipv6-only-preferred u32 RFC 8925
109 dhcp4o6-source-address bytes RFC 8539
112 parent-directory-address addresses RFC 3679
113 parent-directory-tag text RFC 3679
114 captive-portal text RFC 8910
116 auto-configure u8 RFC 2563
117 name-service-search u16s RFC 2937
118 subnet-selection address RFC 3011
119 domain-search domains RFC 3397
120 sip-servers bytes RFC 3361
121 classless-static-route routes RFC 3442
122 cable-client-configuration bytes RFC 3495
123 geoconf bytes RFC 6225
124 vi-vendor-class bytes RFC 3925
125 vi-vendor-specific bytes RFC 3925
128 pxe-128 bytes RFC 4578
129 pxe-129 bytes RFC 4578
130 pxe-130 bytes RFC 4578
131 pxe-131 bytes RFC 4578
132 pxe-132 bytes RFC 4578
133 pxe-133 bytes RFC 4578
134 pxe-134 bytes RFC 4578
135 pxe-135 bytes RFC 4578
136 pana-agent addresses RFC 5192
137 lost-server bytes RFC 5223
138 capwap-access-controller addresses RFC 5417
139 mos-addresses bytes RFC 5678
140 mos-domains bytes RFC 5678
141 sip-configuration-domains domains RFC 6011
142 andsf-addresses addresses RFC 6153
143 sztp-redirect bytes RFC 8572
144 geoloc bytes RFC 6225
145 forcerenew-nonce-capable bytes RFC 6704
146 rdnss-selection bytes RFC 6731
147 dots-agent bytes RFC 8973
148 dots-address addresses RFC 8973
150 tftp-server-address addresses RFC 5859
151 status-code bytes RFC 6926
152 base-time u32 RFC 6926
153 start-time-of-state u32 RFC 6926
154 query-start-time u32 RFC 6926
155 query-end-time u32 RFC 6926
156 dhcp-state u8 RFC 6926
157 data-source u8 RFC 6926
158 pcp-server bytes RFC 7291
159 port-parameters bytes RFC 7618
161 mud-url text RFC 8520
162 encrypted-dns bytes RFC 9463
208 loader-magic bytes RFC 5071
209 configuration-file text RFC 5071
210 path-prefix text RFC 5071
211 reboot-time seconds RFC 5071
212 6rd bytes RFC 5969
213 access-domain bytes RFC 5986
220 subnet-allocation bytes RFC 6656
221 virtual-subnet-selection bytes RFC 6607
"""

PRIVATE = range(224, 255)  # "Reserved (Private Use)": the administrator's own options


def _section(code: int) -> str:
    """The section of RFC 2132 that defines an option from 1 to 76."""
    groups = ((1, 18, 3), (19, 25, 4), (26, 33, 5), (34, 36, 6), (37, 39, 7))
    return next(
        (f"RFC 2132 {part}" for low, high, part in groups if low <= code <= high), "RFC 2132"
    )


def _rules() -> list[OptionRule]:
    rules = []
    for code, line in enumerate(_RFC_2132.splitlines(), 1):
        name, kind = line.split()
        rules.append(OptionRule(code, name, kind, _section(code)))
    for line in _LATER.splitlines():
        number, name, kind, source = line.split(" ", 3)
        rules.append(OptionRule(int(number), name, kind, source))
    return rules


BY_CODE = {rule.code: rule for rule in _rules()}
BY_NAME = {rule.name: rule for rule in BY_CODE.values()}
