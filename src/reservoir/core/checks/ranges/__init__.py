"""Ranges and subnets: consistent with each other, and each address in one network only."""
