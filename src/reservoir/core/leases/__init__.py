"""Lease lists: who has which address, what that says of a plan, and bindings made of it."""
