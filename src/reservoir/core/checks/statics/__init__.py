"""Static hosts and exclusions: what must never be assigned."""
