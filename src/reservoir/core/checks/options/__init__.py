"""What clients are offered besides an address, and names."""
