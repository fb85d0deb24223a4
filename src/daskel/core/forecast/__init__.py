"""How long many clients take to boot at once, and what limits them."""
