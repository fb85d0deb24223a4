"""What a client sees of a root filesystem, and what images hold, by their bytes. Nothing on a
disk."""
