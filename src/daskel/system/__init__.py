"""The operating system: interfaces, ports, files, boot loaders, root filesystems."""
