"""Where the site and the protocols meet: what each client gets when it asks."""
