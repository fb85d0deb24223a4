"""The maintenance operations protocol, in raw Ethernet frames: loading a system, and the remote
console's identification. Without I/O."""
