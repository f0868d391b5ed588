"""Whether a server hears a network's clients: at its own interface, or by relays hop by hop."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from reservoir.core.behaviour import DeviceBehaviour
from reservoir.core.plan.model import Network, Plan
from reservoir.core.routing import End, Routing, Way
from reservoir.core.topology import Attachment, Topology
from reservoir.core.values.addresses import format_address

_NO_WAY = (End.NO_ROUTE, End.LOOP)


class Hearing:
    """The ways of requests and answers through the devices of a plan."""

    def __init__(
        self,
        plan: Plan,
        topology: Topology,
        behaviours: Mapping[str, DeviceBehaviour],
        is_complete: bool = True,
    ) -> None:
        """Take the devices.

        Args:
            plan: The plan whose devices they are.
            topology: Its topology.
            behaviours: How each device behaves whose dialect is known.
            is_complete: Whether all devices that matter are known; else one that isn't may relay.
        """
        self._plan = plan
        self._topology = topology
        self._behaviours = behaviours
        self._is_complete = is_complete
        self._routing = Routing(plan, topology)

    def why_not(self, server: str, network: Network) -> str | None:
        """Why a server doesn't hear a network's clients; None if it does, or may."""
        reasons: list[str] = []
        for own, target in self._ways_in(server, network):
            reason = self._why_not_by(own, target, server)
            if reason is None:
                return None
            reasons.append(reason)
        if reasons:
            return reasons[0]
        if not self._is_complete:
            return None
        return f"{server} has no interface there, and nothing relays to it"

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

    def _why_not_by(self, through: Attachment, target: int | None, server: str) -> str | None:
        reason = self._why_closed(through) or self._why_secondary(through, target, server)
        if reason is not None or target is None:
            return reason
        there = self._routing.way(through.device, target)
        back = self._routing.way(server, through.address)
        closed = (self._why_closed(entered) for entered in there.entered)
        reason = next((why for why in closed if why is not None), None)
        return self._why_lost(there, target) or reason or self._why_lost(back, through.address)

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

    def _why_lost(self, way: Way, address: int) -> str | None:
        if way.end in _NO_WAY:
            return f"{way.at} has no way to {format_address(address)}"
        if way.down is not None:
            return f"{way.down.device} {self._topology.down_at(way.down)} is disabled"
        return None


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
