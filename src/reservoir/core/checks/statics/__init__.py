"""Hand-set addresses and exclusions: what must never be lent."""
