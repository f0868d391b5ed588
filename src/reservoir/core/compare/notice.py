"""What differs between two sides, and what the clients who are there notice of it: as values."""

from __future__ import annotations

import enum
from collections.abc import Sequence
from dataclasses import dataclass

from reservoir.core.values.addresses import Prefix


class Notice(enum.Enum):
    """What a client that is there now notices (RFC 2131); in the order of how much it hurts."""

    NONE = "none"
    ONLY_NEW_CLIENTS = "only-new-clients"
    """Those who are there notice nothing."""
    AT_RENEWAL = "at-renewal"
    """It gets the new settings when it renews its lease, at half of the lease time."""
    NEW_ADDRESS = "new-address"
    """Its server refuses to renew the address, or is gone when the lease ends."""
    CUT_OFF = "cut-off"
    """No server answers it any more."""
    CONFLICT = "conflict"
    """Its address may be somebody else's."""

    @property
    def words(self) -> str:
        """For people."""
        return self.value.replace("-", " ")

    @property
    def weight(self) -> int:
        """How much it hurts, from 0."""
        return _WEIGHTS[self]


_WEIGHTS = {notice: weight for weight, notice in enumerate(Notice)}


@dataclass(frozen=True)
class Change:
    """One thing that differs in a network or at a device."""

    what: str
    """``server``, ``assignable``, ``binding``, a key of ``OFFERED``, ``option`` and its number; if
    it differs at some servers only, with ``of`` and these."""
    old: str | None
    """As a plan writes it; None if there is none."""
    new: str | None
    notice: Notice
    because: str = ""
    """Why clients notice that, where it doesn't go without saying."""

    @property
    def is_binding(self) -> bool:
        """Whether it is about what a client is bound to."""
        return self.what == "binding" or self.what.startswith("binding of ")


@dataclass(frozen=True)
class NetworkSummary:
    """A network as one side has it."""

    name: str
    subnet: Prefix
    servers: tuple[str, ...]
    assignable: int
    """Addresses that any client may get."""
    bindings: int


@dataclass(frozen=True)
class NetworkCompared:
    """A network with all that differs in it."""

    old: NetworkSummary | None
    """None if the old side doesn't have it."""
    new: NetworkSummary | None
    changes: tuple[Change, ...]

    @property
    def name(self) -> str:
        """Its name on the new side; else on the old."""
        there = self.new or self.old
        assert there is not None
        return there.name

    @property
    def worst(self) -> Notice:
        """The most that its clients notice."""
        notices = (change.notice for change in self.changes)
        return max(notices, key=lambda notice: notice.weight, default=Notice.NONE)


@dataclass(frozen=True)
class DeviceCompared:
    """A device with what differs there and is about no network that is compared."""

    name: str
    changes: tuple[Change, ...]


@dataclass(frozen=True)
class Comparison:
    """What differs between two sides by effect."""

    networks: Sequence[NetworkCompared]
    """All that were compared, in the order of the new side; those that only the old has last."""
    devices: Sequence[DeviceCompared] = ()
    """Those at which something differs."""
    left_out: Sequence[str] = ()
    """Networks that were not compared: their servers' configuration isn't known."""
    not_understood: int = 0
    """Lines of configuration that were not understood, and are not part of this."""
    left_aside: Sequence[str] = ()
    """What the plan wants of devices that can't do it, and what they ignore of their configuration:
    both sides are compared without it."""

    @property
    def differing(self) -> list[NetworkCompared]:
        """The networks in which something differs."""
        return [network for network in self.networks if network.changes]

    @property
    def is_same(self) -> bool:
        """Whether nothing differs."""
        return not self.devices and not self.differing
