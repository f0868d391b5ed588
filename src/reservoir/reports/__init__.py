"""Shows findings: for people in a terminal, for programs, for change requests."""
