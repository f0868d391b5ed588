"""How strictly a plan is checked, and which of its findings are accepted."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from typing import Literal

from reservoir.core.plan.part import Part
from reservoir.core.plan.scalars import (
    DateText,
    DurationText,
    LabelText,
    PatternText,
    ShareText,
    WordText,
)


class NamingConvention(Part):
    """Regular expressions that names have to match as a whole."""

    devices: PatternText | None = None
    """For names of devices."""
    networks: PatternText | None = None
    """For names of networks."""
    bindings: PatternText | None = None
    """For names of bound clients."""
    static: PatternText | None = None
    """For names of static hosts."""


class CheckSettings(Part):
    """How strictly the plan is checked."""

    headroom: ShareText = 0.2
    """The share of the expected clients for which addresses are kept free besides."""
    repair: DurationText | None = None
    """How long a server may be down, in seconds; None if nobody says."""
    names: NamingConvention = NamingConvention()
    severity: Mapping[str, Literal["error", "warning", "advice"]] = {}
    """How bad the findings of a rule are here, by the rule's name."""


class Acceptance(Part):
    """A finding that is known and accepted."""

    rule: WordText
    """The rule that found it."""
    at: WordText
    """Where in the plan it is, as in `networks.passenger-wifi`; what is below counts too."""
    because: LabelText
    """Why it is accepted."""
    until: DateText | None = None
    """The last day on which it is accepted; for good if left out."""

    def holds_on(self, day: datetime.date) -> bool:
        """Whether the acceptance is still valid on this day."""
        return self.until is None or day <= self.until
