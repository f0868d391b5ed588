"""Time: what is to happen when, in order; virtual, or that of the wall."""

from __future__ import annotations

import heapq
import time
from collections.abc import Callable


class Clock:
    """Runs what is due, one after the other; nobody waits."""

    def __init__(self) -> None:
        """It is second 0, and nothing is due."""
        self.now = 0.0
        self._due: list[tuple[float, int, Callable[..., None], tuple[object, ...]]] = []
        self._count = 0

    def after(self, seconds: float, action: Callable[..., None], *values: object) -> None:
        """Let something happen some seconds from now; what is due together, in order of asking."""
        self._count += 1
        heapq.heappush(self._due, (self.now + seconds, self._count, action, values))

    def run(self, until: float = float("inf")) -> None:
        """Let everything happen that is due up to a time, and what comes of it."""
        due = self._due
        while due and due[0][0] <= until:
            self.now, _, action, values = heapq.heappop(due)
            action(*values)
        if until < float("inf"):
            self.now = max(self.now, until)


class WallClock(Clock):
    """Runs what is due when its time has come, and waits until then."""

    def __init__(self, wait: Callable[[float], None]) -> None:
        """It is second 0.

        Args:
            wait: Called with seconds, at most which it waits for what comes from outside.
        """
        super().__init__()
        self._wait = wait
        self._began = time.monotonic()

    def run(self, until: float = float("inf")) -> None:
        """Let everything happen that is due up to a time, which must be a finite one."""
        while True:
            self.now = time.monotonic() - self._began
            first = self._due[0][0] if self._due else until
            if first <= min(self.now, until) and self._due:
                _, _, action, values = heapq.heappop(self._due)
                action(*values)
            elif self.now >= until:
                return
            else:
                self._wait(max(min(first, until) - self.now, 0.0))
