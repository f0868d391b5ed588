"""Gateways and devices' own addresses: correct, held by a router, and not in the pool."""
