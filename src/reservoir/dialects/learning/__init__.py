"""Drafts a sheet from an example: a device's configuration, and the plan that it was made of."""
