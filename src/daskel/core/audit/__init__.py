"""What an administrator asks before a client does: explain, handoff, differences, checks across
the whole site. On top of all of core; nothing of core imports it."""
