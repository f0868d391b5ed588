"""Figures: the day of a pool, the address space of a plan."""
