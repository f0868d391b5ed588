"""Messages as values and as bytes, and the frames that carry them."""
