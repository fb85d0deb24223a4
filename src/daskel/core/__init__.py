"""The pure part: bytes and values in, bytes and values out; no I/O, no clock, no printing."""
