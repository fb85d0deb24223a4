"""Daskel boots diskless terminals and thin clients from one server, and can say why."""

__version__ = "0.1.0"
