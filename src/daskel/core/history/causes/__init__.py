"""Causes, each with the events that show it, in the order of a boot."""
