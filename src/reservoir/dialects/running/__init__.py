"""Configuration that was read, as a subject for checks."""
