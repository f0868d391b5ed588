"""Durations: seconds as ``int``, or infinite; lease times are what they are for."""

from __future__ import annotations

import re
from functools import lru_cache

from reservoir.core.values.addresses import MalformedValueError

INFINITE = 0xFFFFFFFF
"""The lease time that never ends, as the wire has it (RFC 2131 section 3.3)."""

UNIT_SECONDS = {"w": 604_800, "d": 86_400, "h": 3_600, "m": 60, "s": 1}

UNIT_WORDS = "w|weeks?|d|days?|h|hours?|hrs?|m|mins?|minutes?|s|secs?|seconds?"
"""How people write them, as a regular expression; the first letter is the unit's."""

_PARTS = re.compile(r"(?:([0-9]+)w)?(?:([0-9]+)d)?(?:([0-9]+)h)?(?:([0-9]+)m)?(?:([0-9]+)s)?")


def parse_duration(text: str) -> int:
    """Read ``90s``, ``45m``, ``12h``, ``1d12h`` or ``infinite`` as seconds.

    Raises:
        MalformedValueError: another form, no length at all, or too long for the wire's 32 bits.
    """
    if text == "infinite":
        return INFINITE
    parts = _PARTS.fullmatch(text)
    if not text or parts is None:
        hint = f" (did you mean {text}s?)" if re.fullmatch("[0-9]+", text) else ""
        raise MalformedValueError(
            f"{text!r} is not a duration: write it like 90s, 45m, 12h, 1d12h or infinite{hint}"
        )
    amounts = (int(part or 0) for part in parts.groups())
    return checked_duration(
        sum(n * unit for n, unit in zip(amounts, UNIT_SECONDS.values(), strict=True)), text
    )


def checked_duration(seconds: int, text: str) -> int:
    """Return ``seconds`` if the wire can carry it as a lease time.

    Raises:
        MalformedValueError: zero, or as long as the value that stands for infinite or longer.
    """
    if seconds <= 0:
        raise MalformedValueError(f"{text!r} is too short: a lease lasts at least one second")
    if seconds >= INFINITE:
        raise MalformedValueError(
            f"{text!r} is too long for a lease (136 years at most); write infinite"
        )
    return seconds


@lru_cache(maxsize=1 << 10)
def format_duration(seconds: int) -> str:
    """Write seconds in the plan's notation, largest units first, weeks as days."""
    if seconds == INFINITE:
        return "infinite"
    text = ""
    for unit in "dhms":
        amount, seconds = divmod(seconds, UNIT_SECONDS[unit])
        text += f"{amount}{unit}" if amount else ""
    return text or "0s"
