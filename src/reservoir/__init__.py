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
    # Python asks for a submodule here before it imports it: "api" has to fall through.
    if name != "api" and not name.startswith("_"):
        from reservoir import api  # late: see above

        if name in api.__all__:
            return getattr(api, name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
