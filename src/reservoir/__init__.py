"""Reservoir: DHCP plans that are checked, written and read back before anything is deployed.

The public interface is that of :mod:`reservoir.api`; nothing is loaded until it is asked for.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from reservoir.version import __version__ as __version__

if TYPE_CHECKING:
    from reservoir.api import *  # noqa: F403 - that module lists what is public


def __getattr__(name: str) -> Any:
    """Load the interface when something of it is asked for: it costs NumPy and the schema."""
    if name.startswith("__"):
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from reservoir import api  # late: see above

    return getattr(api, name)
