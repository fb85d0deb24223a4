"""Remote program load, in frames of IEEE 802.2. Without I/O."""
