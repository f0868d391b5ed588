"""What verifying found: for each network what was planned and what was seen."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from reservoir.core.values.clients import Mac
from reservoir.rehearsal.judgement.result import Failure, NetworkRehearsed


@dataclass(frozen=True)
class ServerSeen:
    """A server that made offers in a network."""

    address: int
    """The address by which clients know it."""
    macs: Sequence[Mac]
    """The hardware addresses that its offers came from: its own, or its relay's."""
    device: str | None
    """The plan's device with that address."""
    is_planned: bool | None
    """Whether it is to serve the network; None if the plan doesn't say what address it has."""
    offers: int
    """The offers that it made."""


@dataclass
class NetworkVerified:
    """What was planned for a network, and what was seen there."""

    network: str
    planned: NetworkRehearsed | None
    """What the same clients get in the rehearsal; None if it wasn't rehearsed."""
    not_planned: str
    """Why it wasn't rehearsed."""
    seen: NetworkRehearsed
    servers: Sequence[ServerSeen] = ()

    @property
    def failed(self) -> bool:
        """Whether what was seen differs from the plan."""
        return bool(self.seen.failures)

    def take_known(self) -> None:
        """Give what went wrong just so in the rehearsal the finding that tells of it there."""
        planned = self.planned
        if planned is None:
            return
        known = {_what(f): f for f in (*planned.failures, *planned.accepted)}
        told = [
            replace(f, finding=known[_what(f)].finding) if _what(f) in known else f
            for f in self.seen.failures
        ]
        self.seen.failures = [f for f in told if f.accepted is None]
        self.seen.accepted = [f for f in told if f.accepted is not None]

    def is_predicted(self, failure: Failure) -> bool:
        """Whether just that went wrong in the rehearsal too."""
        planned = self.planned
        return planned is not None and _what(failure) in map(_what, planned.failures)


def _what(failure: Failure) -> tuple[str, int | None, str, str]:
    return failure.event, failure.address, failure.option, failure.reason


@dataclass
class Verification:
    """What real servers answered."""

    on: str
    """The interface, or this machine's address, that was asked from."""
    networks: Sequence[NetworkVerified]
    not_asked: Sequence[tuple[str, str, str]]
    """Network and client of those that were not asked as, and why."""
    left_out: Sequence[tuple[str, str]] = ()
    """Networks of which nothing was asked, and why."""
    sent: int = 0
    """The messages that were sent."""
    has_taken: bool = False
    """Whether addresses were taken, used and given back."""
    answered: int = 0
    """The clients that were offered something."""

    @property
    def failed(self) -> bool:
        """Whether anything that was seen differs from the plan."""
        return any(each.failed for each in self.networks)
