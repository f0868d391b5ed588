"""``python -m reservoir``."""

from reservoir.cli import main

main()
