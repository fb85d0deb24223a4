"""Machines that ask in raw Ethernet frames, without IP."""
