"""What clients are told besides an address, and what things are called."""
