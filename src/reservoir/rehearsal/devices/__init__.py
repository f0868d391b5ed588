"""Devices that serve and relay, as their families do."""
