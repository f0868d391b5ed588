"""The plan: its model, references between its parts, edits."""
