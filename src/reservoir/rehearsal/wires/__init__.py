"""What carries messages: the simulated wires of a plan, or a real interface."""
