"""Names made fit for a device, each still its own."""

from __future__ import annotations

import re
from collections.abc import Iterable

from reservoir.dialects.sheet.model import Naming


class NameFitter:
    """Makes names that a device takes, unique among those that it has made."""

    def __init__(self, naming: Naming, taken: Iterable[str] = ()) -> None:
        """Begin without names, or with those that the device has besides."""
        self._naming = naming
        self._used = set(taken)
        self.changed: dict[str, str] = {}
        """The names that could not stay as they were, and what became of them."""

    def fit(self, name: str) -> str:
        """The name, or the nearest to it that the device takes and that nothing has yet."""
        fitted = self._allowed(name) or "unnamed"
        chosen, number = self._cut(fitted), 1
        while chosen in self._used:
            number += 1
            chosen = self._cut(fitted, f"-{number}")
        self._used.add(chosen)
        if chosen != name:
            self.changed[name] = chosen
        return chosen

    def _allowed(self, name: str) -> str:
        if not self._naming.characters:
            return name
        return re.sub(f"[^{self._naming.characters}]+", "-", name).strip("-")

    def _cut(self, name: str, tail: str = "") -> str:
        if not self._naming.longest:
            return name + tail
        return name[: self._naming.longest - len(tail)] + tail
