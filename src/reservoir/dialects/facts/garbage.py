"""Python's garbage collector, left off where a million facts are made and none is garbage."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def garbage_collection_paused() -> Iterator[None]:
    """Leave the garbage collector off: among new facts it finds nothing but work."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            if not gc.get_freeze_count():
                gc.freeze()  # and back: what was made counts as old, and isn't gone through at once
                gc.unfreeze()
            gc.enable()
