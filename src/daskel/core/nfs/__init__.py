"""NFS version 3, MOUNT version 3 and the RPC and XDR below them, without sockets and files."""
