"""Changes of several devices from Python: in stages, where a network moves to another server."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import reduce

from reservoir.api.comparisons import sides_of
from reservoir.api.pair_stages import Alone
from reservoir.api.plans import sheets_of
from reservoir.api.scripts import scripts_apart
from reservoir.api.way import Way
from reservoir.core.compare.comparing import unaware
from reservoir.core.compare.sides import name_in, paired, unheard
from reservoir.core.leases.table import LeaseTable
from reservoir.core.plan.model import Exclusion, Network
from reservoir.core.plan.selection import only_networks
from reservoir.core.pools import Pools
from reservoir.core.subject import Subject
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.durations import INFINITE, format_duration
from reservoir.core.wording import counted, listed
from reservoir.dialects.running.subject import ReadSubject
from reservoir.dialects.scripting.ordering import UnsafeError
from reservoir.dialects.scripting.script import DeviceScript, Stage
from reservoir.dialects.sheet.model import Sheet

SHORT = 600
"""Seconds that leases last while a network moves."""

SHORT_ENOUGH = 3600
"""Leases up to this long are not shortened first."""


@dataclass(frozen=True)
class _Move:
    """A network whose addresses another server is to assign."""

    name: str
    """On the new side."""
    old: str
    """On the old side."""
    sources: tuple[str, ...]
    targets: tuple[str, ...]
    addresses: AddressSet
    """What the targets would assign without knowing of the leases there."""
    leases: Mapping[str, int]
    """The lease time that each source gives, in seconds."""

    @property
    def lease(self) -> int:
        """The longest of them."""
        return max(self.leases.values())


def stages(old: Subject, new: Subject, leases: LeaseTable | None = None) -> list[Stage]:
    """The change from old to new, in stages that are safe one after the other.

    One, unless a network moves to a server that doesn't know its leases, or is a pair's before or
    after. Where it moves, leases are shortened first; then the network moves, but for the addresses
    that somebody may have; last come these. Of a pair, one stops first, or begins last: the other
    serves alone in between.

    Args:
        old: What the devices run; a plan for what they would if it was written.
        new: What they are to run.
        leases: Who has which address: only those are kept back, instead of all.

    Raises:
        UnsafeError: a network can't be moved safely.
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    between = Alone.between(old, new)
    moves = list(_moves(between.old, between.new))
    if not (moves or between.networks):
        made, kept_back = scripts_apart(old, new)
        return [Stage((), made, 0, "", kept_back)]
    if isinstance(new, ReadSubject):
        names = listed([*(move.name for move in moves), *between.networks])
        raise UnsafeError(f"the servers of {names} change; give the new side as a plan")
    way = Way(old)
    sheets = sheets_of(new)
    return [
        *between.parting(way, is_moved=bool(moves)),
        *(_Moving(way, between, moves, leases, sheets).stages() if moves else ()),
        *between.joining(way, sheets),
    ]


def _moves(old: Subject, new: Subject) -> Iterator[_Move]:
    sides = sides_of(old, new)
    for before, after in paired(sides.old, sides.new):
        if before is None or after is None:
            continue
        was, is_now = unheard(before, after, sides.old, sides.new)
        heard = before.without(was)
        at_risk = unaware(heard, after.without(is_now))
        if not at_risk:
            continue
        addresses = AddressSet()
        for some in at_risk.values():
            addresses |= some
        leases = {device: sides.old.lease_time(heard, device) or 0 for device in heard.pools}
        was_called = name_in(old.plan, before) or before.name
        yield _Move(after.name, was_called, tuple(heard.pools), tuple(at_risk), addresses, leases)


class _Moving:
    def __init__(
        self,
        way: Way,
        between: Alone,
        moves: Sequence[_Move],
        leases: LeaseTable | None,
        sheets: Mapping[str, Sheet],
    ) -> None:
        self._way, self._moves, self._sheets = way, moves, sheets
        self._old, self._new = between.old.plan, between.new.plan
        self._leases = leases
        missing = [t for move in moves for t in move.targets if t not in way.sheets]
        if missing:
            raise UnsafeError(f"the configuration of {listed(missing)} is not among the files")
        for move in moves:
            if move.lease >= INFINITE and leases is None:
                sources = listed(move.sources)
                raise UnsafeError(
                    f"{move.name} has leases without end at {sources}: --leases tells which"
                )

    def stages(self) -> Iterator[Stage]:
        """Shorten leases; move what nobody has; then the rest."""
        long = [move for move in self._moves if SHORT_ENOUGH < move.lease < INFINITE]
        if long:
            what = tuple(
                f"{listed(m.sources)}: leases of {m.old} last {format_duration(SHORT)} from now on"
                for m in long
            )
            wait = max(move.lease for move in long)
            until = "every client has renewed its lease, or lost it"
            made = list(self._shortened(long))
            self._require_shortened(long, {each.device for each in made})
            yield Stage(what, made, wait, until)
        kept = {move.name: self._kept(move) for move in self._moves}
        between = replace(
            self._new,
            networks={
                name: _without(network, kept[name]) if name in kept else network
                for name, network in self._new.networks.items()
            },
        )
        wait = max(min(move.lease, SHORT) if move in long else move.lease for move in self._moves)
        until = "the last lease of the old servers has ended"
        if wait >= INFINITE:
            wait, until = 0, "every client that has a lease without end was restarted"
        what = tuple(
            sentence for m in self._moves for sentence in self._moved(m, kept[m.name], wait)
        )
        targets = {target for move in self._moves for target in move.targets}
        made = sorted(
            self._way.to(between, self._sheets), key=lambda each: each.device not in targets
        )
        yield Stage(what, made, wait, until)
        last = tuple(
            f"{listed(move.targets)}: {counted(len(kept[move.name]), 'address')} of {move.name} "
            "that had been kept back"
            for move in self._moves
            if kept[move.name]
        )
        if last:
            yield Stage(last, list(self._way.to(self._new, self._sheets)), 0, "")

    def _require_shortened(self, moves: Sequence[_Move], changed: set[str]) -> None:
        """That each server whose configuration is known gives short leases from then on.

        Raises:
            UnsafeError: one doesn't, so that its last lease ends later than is waited for.
        """
        for move in moves:
            for source, lease in move.leases.items():
                if lease > SHORT and source in self._way.sheets and source not in changed:
                    raise UnsafeError(f"{source} can't be told of shorter leases in {move.old}")

    def _kept(self, move: _Move) -> AddressSet:
        """The addresses that somebody may have a lease of from the old servers."""
        if self._leases is None:
            return move.addresses
        return move.addresses & AddressSet.of_addresses(self._leases.address)

    def _moved(self, move: _Move, kept: AddressSet, wait: int) -> Iterator[str]:
        """How a network moves, and what is left of it for a while."""
        text = f"{move.name} moves from {listed(move.sources)} to {listed(move.targets)}"
        if set(move.sources) == set(move.targets):
            text = f"{move.name} is divided anew between {listed(move.targets)}"
        if not kept:
            yield text
            return
        yield f"{text}, without {counted(len(kept), 'address')} that may have a lease"
        pools = Pools(self._new).of(move.name)
        whole = reduce(AddressSet.__or__, (pool.assignable for pool in pools))
        left, clients = len(whole - kept), counted(len(kept), "client")
        until = f" for {format_duration(wait)}" if wait else ""
        remain = f"{left:,} of {counted(len(whole), 'address')} can be assigned{until}"
        if self._leases is None:
            yield f"{remain}; --leases tells which of the others are in use"
            return
        lacking = f": {len(kept) - left:,} of them get none" if left < len(kept) else ""
        yield f"{remain}, and up to {clients} ask for one{lacking}"
        if lacking:
            yield (
                f"another way: `reservoir adopt` binds the clients of {move.name} in the plan to "
                "the addresses that they have; then none is kept back"
            )

    def _shortened(self, moves: Sequence[_Move]) -> Iterator[DeviceScript]:
        names = {move.old for move in moves}
        networks = {
            name: network.model_copy(update={"lease": SHORT}) if name in names else network
            for name, network in self._old.networks.items()
        }
        shortened = only_networks(replace(self._old, networks=networks), names)
        sources = dict.fromkeys(source for move in moves for source in move.sources)
        yield from self._way.to_these(shortened, sources)


def _without(network: Network, kept: AddressSet) -> Network:
    """The network with some more addresses excluded."""
    more = tuple(Exclusion(range=span) for span in kept.spans())
    return network.model_copy(update={"exclusions": (*network.exclusions, *more)})
