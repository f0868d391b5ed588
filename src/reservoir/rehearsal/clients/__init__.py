"""Clients: their state machine, and the kinds of them that come to a network."""
