"""What a device does with its facts: from a plan to facts, and back."""
