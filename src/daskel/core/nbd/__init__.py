"""NBD: files that clients use as block devices, as the protocol's own document has it
(NetworkBlockDevice, doc/proto.md)."""
