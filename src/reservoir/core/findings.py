"""Findings: what a check says, where, the case that shows it, and what would put it right."""

from __future__ import annotations

import enum
from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import Any

from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath
from reservoir.core.values.addresses import format_address


class Severity(enum.IntEnum):
    """How much a finding matters; ordered, so that severities compare."""

    ADVICE = 1
    """Worth knowing."""
    WARNING = 2
    """Likely to hurt."""
    ERROR = 3
    """Some client will be refused, misled or given someone else's address."""

    @property
    def word(self) -> str:
        """The severity as options and outputs name it."""
        return self.name.lower()


_SENTENCES: Mapping[str, str] = {
    "lent": "a client of {network} is lent {address}, which is also {also}",
    "named": "{network} would lend {address}, {also}",
    "claimed": "{address} belongs to {network} and to {also}",
    "bound": "{client} is always given {address}, {also}",
    "bound-twice": "{client} and {also} are both given {address}",
    "named-alike": "{client} and {also} go by one name",
    "held-twice": "{client} and {also} both answer for {address}",
    "misplaced": "{client} is given {address}, which is not in {network}",
    "misled": "a client of {network} is told to use the gateway {address}, {also}",
    "refused": "client number {count} of {network} is refused",
    "unanswered": "a client of {network} asks for an address and nobody answers",
    "answered-twice": "a client of {network} asks for an address, and {also} answer",
    "lost-request": "a request of a client of {network} is relayed to {address}, {also}",
    "lost-answer": "the answer to a client of {network} has to go to {address}, {also}",
    "idle-range": "the range {also} of {network} lends nothing",
    "has": "{client} has {address}, {also}",
    "apart": "{client} takes {address} for near, and {also} doesn't",
    "spared": "{address} is kept out of {network}, which would not lend it anyway",
    "told-otherwise": "a client of {network} {also}",
    "ends": "after {also} it counts no more",
    "unneeded": "without it there are the same findings",
}


@dataclass(frozen=True)
class Witness:
    """The smallest concrete case that shows a finding; a rehearsal can replay it."""

    kind: str
    network: str | None = None
    address: int | None = None
    client: str | None = None
    also: str | None = None
    count: int | None = None

    def as_json(self) -> dict[str, Any]:
        """The fields that are set; addresses as text."""
        values = {f.name: getattr(self, f.name) for f in fields(self)}
        if self.address is not None:
            values["address"] = format_address(self.address)
        return {name: value for name, value in values.items() if value is not None}

    @property
    def sentence(self) -> str:
        """The case in a line."""
        return _SENTENCES[self.kind].format_map({"network": "its network", **self.as_json()})


@dataclass(frozen=True)
class Finding:
    """One thing that a check says."""

    rule: str
    family: str
    severity: Severity
    message: str
    at: PlanPath
    witness: Witness | None = None
    suggestions: tuple[Edit, ...] = ()
    cause: Finding | None = None
    """The finding that this one follows from, if any."""
    accepted: str | None = None
    """Why it is accepted, if it is."""
    concerns: tuple[str, ...] = ()
    """Other networks that it is about."""
    states: frozenset[str] = frozenset()
    """Where a line was not understood: what it seems to state, as :attr:`Obstacle.states`."""

    @property
    def is_mendable(self) -> bool:
        """Whether there is one way only to put it right, which an edit to the plan can take."""
        return len(self.suggestions) == 1 and self.accepted is None and self.cause is None

    @property
    def network(self) -> str | None:
        """The network that the finding is about, if it stands in one."""
        if len(self.at) > 1 and self.at[0] == "networks":
            return str(self.at[1])
        return self.witness.network if self.witness else None


@dataclass(frozen=True)
class Obstacle:
    """Something about a device that only its dialect can tell, which the core knows nothing of.

    Found where a plan is fitted to a dialect or where a configuration is read; the rule that it
    names makes a finding of it.
    """

    rule: str
    """The rule that reports it."""
    message: str
    at: PlanPath
    network: str
    """The network whose clients notice; empty if there is none."""
    harm: str
    """What happens to a client: ``is told a lease of 2m``."""
    suggestions: tuple[Edit, ...] = ()
    severity: Severity | None = None
    """The rule's own if None."""
    states: frozenset[str] = frozenset()
    """What a line that was not understood seems to state: ``gateway``, ``range``, ``exclusion``."""
