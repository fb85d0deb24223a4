"""Boot files over TFTP and HTTP. What a path means is decided in `core/content`."""
