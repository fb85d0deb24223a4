"""TFTP (RFC 1350, 2347, 2348, 2349), without sockets."""
