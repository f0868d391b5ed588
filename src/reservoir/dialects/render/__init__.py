"""From facts to text, also into a text that is there."""
