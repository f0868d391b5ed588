"""Paths: a client's request must arrive at one server, and the answer come back."""
