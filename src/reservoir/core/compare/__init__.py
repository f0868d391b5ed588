"""Differences between two sides by their effect on clients, as typed values."""
