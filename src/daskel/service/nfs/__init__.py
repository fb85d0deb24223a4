"""NFS, MOUNT and the port mapper, and the processes of their own that serve them."""
