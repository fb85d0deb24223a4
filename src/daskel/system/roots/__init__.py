"""Roots, versions and slates on the disk: imported, built, sealed, mounted. Nothing that serves
them."""
