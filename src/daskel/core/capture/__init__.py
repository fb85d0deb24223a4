"""What happened on a wire, from the packets of a capture: the same events as a server has."""
