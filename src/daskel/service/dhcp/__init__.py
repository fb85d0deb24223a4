"""DHCP and what belongs to it on the wire: probes, router advertisements, other servers. No
files."""
