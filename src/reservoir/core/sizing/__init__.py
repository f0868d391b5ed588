"""How many addresses are needed."""
