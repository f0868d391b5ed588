"""What a property has to have met in its examples: it fails if it hasn't, for it proved less then.

@meets("two ends", "a loop")
@given(...)
def test_...(...):
    met("two ends", len(ends) == 2)
"""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import ParamSpec

from hypothesis import event

from conftest import RUN

P = ParamSpec("P")

_seen: set[str] = set()


def met(what: str, is_so: bool = True) -> None:
    """Note that the present example is a case of something, if it is."""
    if is_so:
        event(what)
        _seen.add(what)


def meets(*wanted: str) -> Callable[[Callable[P, None]], Callable[P, None]]:
    """Fail a property that has not met all of these; the quick run has too few examples for it."""

    def around(test: Callable[P, None]) -> Callable[P, None]:
        @wraps(test)
        def and_met(*args: P.args, **kwargs: P.kwargs) -> None:
            _seen.clear()
            test(*args, **kwargs)
            missing = set(wanted) - _seen
            assert not missing or RUN == "few", f"no example has {', '.join(sorted(missing))}"

        return and_met

    return around
