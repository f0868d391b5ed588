"""Bindings: one client, one address, in its own network."""
