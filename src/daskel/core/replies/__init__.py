"""The answer to a DHCP message, from the site, the leases and the request. No files, no roots."""
