"""Ranges and subnets: what is named must lie where it belongs, and belong to one network."""
