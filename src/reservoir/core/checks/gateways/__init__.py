"""Gateways and devices' own addresses: right, held by a router, and never a client's."""
