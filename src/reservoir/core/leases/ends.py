"""When clients renew their leases, and when these end."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from reservoir.core.leases.table import LeaseTable


class Ends:
    """When each of some clients renews next, and when its lease ends, at the latest."""

    def __init__(
        self, leases: LeaseTable, rows: NDArray[np.int64], lease_time: int | None, now: float
    ) -> None:
        """Work them out (RFC 2131 section 4.4.5).

        Args:
            leases: A lease list.
            rows: The leases that are wanted, shape (n,).
            lease_time: Seconds that leases last where the list doesn't tell; None if not known.
            now: The present time, in seconds since 1970.
        """
        expires, starts = leases.expires[rows], leases.starts[rows]
        length = np.where(np.isfinite(expires - starts), expires - starts, lease_time or np.nan)
        self.end = np.where(np.isnan(expires), now + length, expires)
        """Shape (n,), as the others: NaN where it isn't known, infinite for a lease without end."""
        self.renewal = self._when(expires, length / 2, now)
        """When it asks its own server."""
        self.rebinding = self._when(expires, length / 8, now)
        """When it asks any server."""

    def _when(
        self, expires: NDArray[np.float64], before: NDArray[np.float64], now: float
    ) -> NDArray[np.float64]:
        """The time so long before the end; the end, if that is past or can't be told."""
        at = np.where(np.isinf(expires), np.inf, self.end - before)
        return np.where(at > now, at, self.end)
