"""One module for each command, and for parts of a large one; nothing that another command needs."""
