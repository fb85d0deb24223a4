"""What must survive: leases."""
