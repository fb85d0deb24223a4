"""One file for many receivers at once: datagrams, pace and passes, without I/O."""
