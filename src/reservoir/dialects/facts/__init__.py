"""Facts: what a device's configuration states, whatever language it is written in."""
