"""The demo site and its generated data."""
