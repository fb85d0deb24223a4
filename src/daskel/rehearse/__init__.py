"""Simulated clients that speak the real protocols."""
