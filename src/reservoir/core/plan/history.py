"""Observed leases: when addresses were taken, and when they came back."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from reservoir.core.values.addresses import Span


@dataclass(frozen=True, eq=False)
class History:
    """Leases of the past in columns of one length n."""

    address: NDArray[np.int64]
    start: NDArray[np.float64]
    """Seconds since 1970."""
    end: NDArray[np.float64]
    """Seconds since 1970; infinite for leases that haven't ended."""

    def __len__(self) -> int:
        return len(self.address)

    def within(self, subnet: Span) -> History:
        """The leases of addresses in a subnet."""
        inside = (self.address >= subnet.first) & (self.address <= subnet.last)
        return History(self.address[inside], self.start[inside], self.end[inside])
