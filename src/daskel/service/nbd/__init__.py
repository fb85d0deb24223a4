"""NBD: images of roots, and what clients keep, as block devices."""
