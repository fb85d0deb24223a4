"""Seeded, small attacks on everything that reads what others wrote."""
