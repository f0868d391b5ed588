"""Stages of a change in which a network is a pair's before, after, or both.

Two servers are in step only while both say the same of their pair. So while what they say changes,
one of them serves alone: the other one stops first, which has told it of its leases; and it begins
last, when the one that goes on names it as its partner.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from reservoir.api.scripts import pairs_that_change
from reservoir.api.way import Way
from reservoir.core.compare.sides import NetworkSide, name_in
from reservoir.core.pairing import address_between
from reservoir.core.plan.model import Plan, PlanPath, Service
from reservoir.core.pools import Pools
from reservoir.core.problems import Place
from reservoir.core.subject import Subject
from reservoir.core.topology import Topology
from reservoir.core.values.addresses import format_address
from reservoir.dialects.running.subject import ReadSubject
from reservoir.dialects.scripting.ordering import UnsafeError
from reservoir.dialects.scripting.script import DeviceScript, Stage
from reservoir.dialects.sheet.model import Sheet

_Keeper = Callable[[Sequence[str]], str]
"""Which one of a pair goes on alone."""


class _Changed(Subject):
    """A subject with another plan; what is there has the place of what was there."""

    def __init__(self, of: Subject, plan: Plan) -> None:
        self.plan, self.files, self._of = plan, of.files, of

    def place(self, path: PlanPath) -> Place:
        return self._of.place(path)

    @property
    def is_complete(self) -> bool:
        return self._of.is_complete


class _Split(NamedTuple):
    """A pair of which one serves a network alone."""

    network: str
    keeper: str
    other: str


@dataclass(frozen=True)
class Alone:
    """A change without its pairs: one of each serves alone, before and after."""

    old: Subject
    """What is left of the old side's pairs."""
    new: Subject
    """What is there of the new side's pairs before the other one begins."""
    parting_plan: Plan
    """The old side, where the one that goes on still names the other."""
    joining_plan: Plan
    """The new side, where the one that goes on already names the other."""
    whole: Plan
    """The new side."""
    parted: Sequence[_Split]
    """The pairs of the old side."""
    joined: Sequence[_Split]
    """Those of the new one."""

    @classmethod
    def between(cls, old: Subject, new: Subject) -> Alone:
        """Take the pairs apart that change; where none does, both sides are as they are.

        Raises:
            UnsafeError: only one of a pair is known.
        """
        known = {read.lifted.name for read in old.reads} if isinstance(old, ReadSubject) else None
        before: dict[str, _Keeper] = {}
        after: dict[str, _Keeper] = {}
        for was, is_now in pairs_that_change(old, new):
            for device, partner in {**was.half_known, **is_now.half_known}.items():
                raise UnsafeError(
                    f"{is_now.name}: {device} is in a pair with {format_address(partner)}, and "
                    "nothing that was given serves it there"
                )
            later = [*(d for pair in is_now.pairs for d in pair), *is_now.pools]
            earlier = [
                *(_first_of(later)(pair) for pair in was.pairs),
                *(d for d in was.pools if not any(d in pair for pair in was.pairs)),
            ]
            if known is not None:  # what isn't among the files can't be told of its partner
                earlier.sort(key=lambda device: device not in known)
            before[_name_in(old.plan, was)] = _first_of(later)
            after[_name_in(new.plan, is_now)] = _first_of(earlier)
        parting_plan, parted = _apart(old.plan, before, is_told=True)
        joining_plan, joined = _apart(new.plan, after, is_told=True)
        return cls(
            _Changed(old, _apart(old.plan, before)[0]) if parted else old,
            _Changed(new, _apart(new.plan, after)[0]) if joined else new,
            parting_plan,
            joining_plan,
            new.plan,
            parted,
            joined,
        )

    @property
    def networks(self) -> Sequence[str]:
        """The networks whose pairs change, as either side calls them."""
        return list(dict.fromkeys(split.network for split in (*self.parted, *self.joined)))

    def parting(self, way: Way, *, is_moved: bool) -> Iterator[Stage]:
        """The other one of each old pair stops; then the one that goes on forgets it.

        Args:
            way: What the devices have been told.
            is_moved: Whether a network moves next; else a pair that comes again need not be
                forgotten.
        """
        missing = [split.other for split in self.parted if split.other not in way.sheets]
        if missing:
            raise UnsafeError(f"the configuration of {missing[0]} is not among the files")
        what = [
            f"{split.network}: {split.other} stops; {split.keeper}, which knows the leases of "
            "both, goes on alone"
            for split in self.parted
        ]
        if what:
            yield from _stage(what, way.to(self.parting_plan, way.sheets))
        forgotten = {*self.parted} - ({*self.joined} if not is_moved else set())
        if forgotten:
            what = [
                f"{split.network}: {split.keeper} no longer names {split.other} as its partner"
                for split in self.parted
            ]
            yield from _stage(what, way.to(self.old.plan, way.sheets))

    def joining(self, way: Way, sheets: Mapping[str, Sheet]) -> Iterator[Stage]:
        """The one that goes on names its new partner; then that one begins."""
        what = [
            f"{split.network}: {split.keeper} names {split.other} as its partner, and goes on alone"
            for split in self.joined
        ]
        yield from _stage(what, way.to(self.joining_plan, sheets))
        if not self.joined:
            return
        by_hand = tuple(s.other for s in self.joined if s.other not in way.sheets)
        what = [
            f"{split.network}: {split.other} begins, as the partner of {split.keeper}"
            + ("; load what `reservoir write` gives there" if split.other in by_hand else "")
            for split in self.joined
        ]
        yield from _stage(what, way.to(self.whole, sheets), by_hand)


def _stage(
    what: Sequence[str], scripts: Iterable[DeviceScript], by_hand: tuple[str, ...] = ()
) -> Iterator[Stage]:
    """A stage after which nothing is waited for; none if nothing is to be done."""
    made = list(scripts)
    if made or what:
        yield Stage(tuple(what), made, 0, "", by_hand=by_hand)


def _name_in(plan: Plan, there: NetworkSide) -> str:
    """What a plan calls a network.

    Raises:
        UnsafeError: it has no such network.
    """
    name = name_in(plan, there)
    if name is None:
        raise UnsafeError(f"the servers of {there.name} change, and so does its subnet")
    return name


def _first_of(preferred: Sequence[str]) -> _Keeper:
    """Chooses the one of a pair that comes first among some devices; else the pair's first."""
    return lambda pair: next((device for device in preferred if device in pair), pair[0])


def _apart(
    plan: Plan, keepers: Mapping[str, _Keeper], *, is_told: bool = False
) -> tuple[Plan, list[_Split]]:
    """A plan in which one of each pair serves alone, and who that is.

    Args:
        plan: The plan.
        keepers: By network which one it is.
        is_told: Whether it names the other one all the same.
    """
    if not keepers:
        return plan, []
    topology = Pools(plan).topology
    networks, found = dict(plan.networks), list[_Split]()
    for name, keeper in keepers.items():
        services = []
        for service in plan.networks[name].served_by:
            if not service.pair:
                services.append(service)
                continue
            split = _Split(name, keeper(service.pair), "")
            split = split._replace(other=next(d for d in service.pair if d != split.keeper))
            found.append(split)
            services.append(_alone(service, split, topology if is_told else None))
        networks[name] = networks[name].model_copy(update={"served_by": tuple(services)})
    return replace(plan, networks=networks), found


def _alone(service: Service, split: _Split, topology: Topology | None) -> Service:
    """What one of a pair serves alone; with a topology, it names the other one's address."""
    told = {}
    if topology is not None:
        told = {
            "partner": address_between(topology, split.keeper, split.other),
            "leads": split.keeper == service.pair[0],
            "after": service.after,
        }
    return Service(device=split.keeper, ranges=service.ranges, **told)
