"""Judges what clients got, and what they can do with it."""
