"""Paths: a client's request must reach one server, and the answer must come back."""
