"""The site: what the administrator wrote, checked, and what follows from it for each client."""
