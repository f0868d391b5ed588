"""From nodes to facts, and what was not understood."""
