"""Files as NFS needs them: handles, attributes, open files; and the system's own NFS server."""
