"""Who asks, and what is theirs: identity, address, segment, kernel arguments, templates. Neither
the messages that carry it, nor what happened."""
