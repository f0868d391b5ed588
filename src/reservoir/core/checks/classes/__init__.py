"""Rules about kinds of client."""
