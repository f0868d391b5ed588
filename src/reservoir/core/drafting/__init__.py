"""New networks for a plan: questions in the engineer's order, each with a suggestion."""
