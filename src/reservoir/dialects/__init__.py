"""Dialects: two-way sheets, and what carries a plan to a device's terms and back."""
