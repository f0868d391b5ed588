"""Bindings that stand for all others of a device: what a sheet can say of them, it can say of all.

Whether a binding can be written depends on which fields it has, and on each value by itself. An
address and a MAC address can be written or not, whichever they are; a text is refused for one of
its characters, its length, or what stands at its edges. So one binding of each kind in each pool
is enough, with the names that have each character, the longest one, and all that are unusual.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from reservoir.core.plan.hosts import FIRST_IDENTIFIER, HostTable
from reservoir.core.values.text_column import TextColumn

USUAL = "A-Za-z0-9._-"
"""Characters of names that are looked at by the column; a name with another is a specimen."""

Rows = NDArray[np.int64]


def specimens(table: HostTable, pools: Sequence[Rows]) -> list[Rows]:
    """Of the bindings in each pool, those that stand for all: rows of the table, in their order.

    Args:
        table: The bindings of a plan.
        pools: The rows of each pool of a device.
    """
    every = np.concatenate([np.empty(0, dtype=np.int64), *pools])
    names = table.name.rows(every)
    chosen = np.zeros(len(table), dtype=np.bool_)
    chosen[every[table.client[every] >= FIRST_IDENTIFIER]] = True
    chosen[every[names.unlike(USUAL)]] = True
    chosen[np.fromiter(table.own, np.int64, len(table.own))] = True
    chosen[every[[*_with_each_character(names)]]] = True
    if len(every):
        chosen[every[np.argmax(names.lengths)]] = True
    is_named = table.name.lengths > 0
    for rows in pools:
        for alike in (rows[is_named[rows]], rows[~is_named[rows]]):
            chosen[alike[:1]] = True
    return [rows[chosen[rows]] for rows in pools]


def _with_each_character(names: TextColumn) -> Iterator[int]:
    """Places of names that together have every character that is in any."""
    missing = set("".join(names))
    for place, name in enumerate(names):
        if not missing:
            return
        if not missing.isdisjoint(name):
            missing.difference_update(name)
            yield place
