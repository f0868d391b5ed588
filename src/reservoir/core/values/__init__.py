"""Values: addresses, sets of them, clients, durations, options; immutable, and exact."""
