"""Python's garbage collector, left off where a million facts are made and none is garbage."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def without_collector() -> Iterator[None]:
    """Leave the garbage collector off: among new facts it finds nothing but work."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
