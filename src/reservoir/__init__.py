"""Reservoir: DHCP plans that are checked, written and read back before anything is deployed.

The public interface is listed in ``__init__.pyi``; nothing of it is loaded until it is asked for.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from reservoir.version import __version__ as __version__


def __getattr__(name: str) -> Any:
    """Load what is asked for, and only that: all together take half a second."""
    if name.startswith("_"):
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    load_public, _ = _public()
    return load_public(name)


def __dir__() -> list[str]:
    """What is public."""
    _, names = _public()
    return sorted({*names(), "__version__"})


def _public() -> tuple[Callable[[str], Any], Callable[[], list[str]]]:
    import lazy_loader  # late: asked for by nobody who only wants the version

    load_public, names, _ = lazy_loader.attach_stub(__name__, __file__)
    return load_public, names
