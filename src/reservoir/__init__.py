"""Reservoir: DHCP plans that are checked, written and read back before anything is deployed.

What is here is the public interface; nothing is loaded until it is asked for.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from reservoir.version import __version__

if TYPE_CHECKING:
    from reservoir.api import (
        ConfigurationRead,
        DeviceConfiguration,
        Edit,
        Finding,
        InputError,
        Mended,
        Place,
        Plan,
        Problem,
        Report,
        Severity,
        UnknownNameError,
        Witness,
        check,
        combine,
        configuration_text,
        convert,
        load,
        loads,
        mend,
        read,
        write,
    )

__all__ = [
    "ConfigurationRead",
    "DeviceConfiguration",
    "Edit",
    "Finding",
    "InputError",
    "Mended",
    "Place",
    "Plan",
    "Problem",
    "Report",
    "Severity",
    "UnknownNameError",
    "Witness",
    "__version__",
    "check",
    "combine",
    "configuration_text",
    "convert",
    "load",
    "loads",
    "mend",
    "read",
    "write",
]


def __getattr__(name: str) -> Any:
    """Load the interface when something of it is asked for: it costs NumPy and the schema."""
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from reservoir import api  # late: see above

    return getattr(api, name)
