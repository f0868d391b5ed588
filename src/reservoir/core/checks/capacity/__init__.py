"""Capacity: enough addresses for the clients that are expected."""
