"""Whether a server hears a network's clients: at its own interface, or by relays hop by hop."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from reservoir.core.behaviour import DeviceBehaviour
from reservoir.core.plan.model import Network, Plan
from reservoir.core.pools import Pools
from reservoir.core.routing import Routing, Way
from reservoir.core.topology import Attachment, Topology


class Open(NamedTuple):
    """A way of which it isn't known how it goes on."""

    way: Way
    address: int
    """The address that it should lead to."""

    def __str__(self) -> str:
        return self.way.why(self.address)


class Heard(NamedTuple):
    """Whether a server hears a network's clients, and they its answers."""

    why_not: str | None = None
    """Why they don't; None if they do, or may."""
    rests_on: tuple[Open, ...] = ()
    """What would have to be known to say that they do; with nothing there, they do."""
    through: Attachment | None = None
    """The interface in the network that it hears them by; None if none is known."""
    in_zone: Attachment | None = None
    """An interface on the way that has to be in a zone; one of a device that lists none, if any."""

    @property
    def is_sure(self) -> bool:
        """Whether they do, and nothing has to be assumed for it."""
        return self.through is not None and self.why_not is None and not self.rests_on


class Hearing:
    """The ways of requests and answers through the devices of a plan."""

    def __init__(
        self,
        pools: Pools,
        behaviours: Mapping[str, DeviceBehaviour],
        is_complete: bool = True,
    ) -> None:
        """Take the devices.

        Args:
            pools: The pools of the plan whose devices they are.
            behaviours: How each device behaves whose dialect is known.
            is_complete: Whether all devices that matter are known; else one that isn't may relay.
        """
        self._plan = pools.plan
        self._topology = pools.topology
        self._behaviours = behaviours
        self._is_complete = is_complete
        self.routing = Routing(pools, is_complete=is_complete)

    def why_not(self, server: str, network: Network) -> str | None:
        """Why a server doesn't hear a network's clients; None if it does, or may."""
        return self.heard(server, network).why_not

    def heard(self, server: str, network: Network) -> Heard:
        """Whether a server hears a network's clients by any of the ways there are."""
        found = [
            self._heard_by(own, target, server, network)._replace(through=own)
            for own, target in self._ways_in(server, network)
        ]
        if not found and self._is_complete:
            return Heard(f"{server} has no interface there, and nothing relays to it")
        sure = (heard for heard in found if heard.is_sure)
        open_ = (heard for heard in found if heard.why_not is None)
        return next(sure, None) or next(open_, None) or next(iter(found), Heard())

    def why_refused(self, server: str, served: Mapping[str, Network]) -> str | None:
        """Why a server refuses its configuration as a whole, with the networks that it serves."""
        behaviour = self._behaviours.get(server)
        if behaviour is None or not behaviour.refuses_unreached_pools:
            return None
        for name, network in served.items():
            is_known = self._is_complete or self._topology.attachments(network)
            if is_known and self._topology.reach(server, network) is None:
                return f"{server} refuses its configuration, since nothing leads to {name}"
        return None

    def hears_bound_only(self, server: str, network: Network) -> bool:
        """Whether a server's only way in is a secondary address, where it serves bound clients."""
        behaviour, ways = self._behaviours.get(server), list(self._ways_in(server, network))
        if behaviour is None or behaviour.assigns_by_secondary or not ways:
            return False
        return all(target is None and own.is_secondary for own, target in ways)

    def _ways_in(self, server: str, network: Network) -> Iterator[tuple[Attachment, int | None]]:
        """The interfaces at which the clients are heard, and the address each relays to, if any."""
        attachments = self._topology.attachments(network)
        targets = self._topology.relay_targets_of(server)
        yield from ((a, None) for a in attachments if a.device == server)
        for attachment in attachments:
            for target in self._topology.interface(attachment).relay_to:
                if target in targets and attachment.device != server:
                    yield attachment, target

    def _heard_by(
        self, through: Attachment, target: int | None, server: str, network: Network
    ) -> Heard:
        reason = (
            self._why_elsewhere(through, network)
            or self._why_closed(through)
            or self._why_secondary(through, target, server)
        )
        if reason is not None or target is None:
            return Heard(reason, in_zone=self._in_zone(through))
        behaviour = self._behaviours.get(server)
        if behaviour is not None and not behaviour.answers_relays:
            return Heard(f"{server} doesn't answer relays")
        there = Open(self.routing.way(through.device, target), target)
        back = Open(self.routing.way(server, through.address), through.address)
        closed = (self._why_closed(entered) for entered in there.way.entered)
        reason = next((why for why in closed if why is not None), None)
        reason = _why_lost(there) or reason or _why_lost(back)
        rests_on = tuple(each for each in (there, back) if each.way.is_open)
        return Heard(reason, rests_on, in_zone=self._in_zone(through, *there.way.entered))

    def _why_elsewhere(self, through: Attachment, network: Network) -> str | None:
        """Why an interface with an address in a network's subnet isn't in the network."""
        if not self._topology.has_other_tag(through, network):
            return None
        tag = self._topology.interface(through).vlan
        return f"{through} has VLAN {tag}, and the network VLAN {network.vlan}"

    def _in_zone(self, *entered: Attachment) -> Attachment | None:
        found = [
            attachment
            for attachment in entered
            for behaviour in [self._behaviours.get(attachment.device)]
            if behaviour is not None and behaviour.zone_must_admit_dhcp
        ]
        return min(found, key=lambda a: bool(self._plan.devices[a.device].zones), default=None)

    def _why_closed(self, entered: Attachment) -> str | None:
        """Why requests that come in at an interface are not heard."""
        down = self._topology.down_at(entered)
        if down is not None:
            return f"{entered.device} {down} is disabled"
        if drops_dhcp(self._plan, self._topology, entered, self._behaviours):
            zone = self._topology.interface(entered).zone
            return f"{entered} is in {f'zone {zone}' if zone else 'no zone'}, which admits no dhcp"
        return None

    def _why_secondary(self, through: Attachment, target: int | None, server: str) -> str | None:
        """Why a secondary address is no way in."""
        behaviour = self._behaviours.get(server)
        if not through.is_secondary or behaviour is None:
            return None
        where = f"{through.prefix} is a secondary address of {through}"
        if target is not None:
            return f"{where}, which relays from its primary address"
        if not behaviour.binds_by_secondary:
            return f"{where}; {server} serves only the primary address's subnet there"
        return None


def _why_lost(taken: Open) -> str | None:
    return str(taken) if taken.way.is_lost else None


def drops_dhcp(
    plan: Plan,
    topology: Topology,
    entered: Attachment,
    behaviours: Mapping[str, DeviceBehaviour],
) -> bool:
    """Whether a firewall drops requests that come in at an interface, since its zone is closed.

    A plan that lists none of a device's zones leaves them out.
    """
    zones = plan.devices[entered.device].zones
    behaviour = behaviours.get(entered.device)
    if not zones or behaviour is None or not behaviour.zone_must_admit_dhcp:
        return False
    zone = topology.interface(entered).zone
    return zone is None or zone not in zones or "dhcp" not in zones[zone].admits
