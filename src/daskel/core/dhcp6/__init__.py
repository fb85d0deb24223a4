"""DHCP for IPv6 (RFC 8415), as far as network boot goes (RFC 5970). Read only, so far."""
