"""DHCP and PXE messages and rules, without sockets and without knowing any site."""
