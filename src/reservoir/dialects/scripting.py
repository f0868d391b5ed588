"""Change scripts: the statements that lead a device from one configuration to another.

In an order in which no address is assignable at any point that neither the old nor the new
configuration assigns, and networks that both serve are served throughout, if that is possible. Each
statement is applied to the text, and what the device then does is read from it; a script that
doesn't prove safe is not made. Parts of a configuration that have nothing in common are changed one
after the other.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Mapping, Sequence
from copy import deepcopy
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from typing import NamedTuple

from reservoir.core.compare.differences import Difference, Served
from reservoir.core.compare.differences import differences as compare
from reservoir.core.plan.model import Device
from reservoir.core.pools import Pools
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, Span
from reservoir.core.wording import listed
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.effect import lift_effect
from reservoir.dialects.behaviour.pool_subnets import pools_of, subnet_of
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.parts import parts_that_differ
from reservoir.dialects.render.present_text import PresentText
from reservoir.dialects.render.statements import (
    NotStatedError,
    Statement,
    Step,
    applied,
    steps_between,
    text_of,
    with_free_number,
)
from reservoir.dialects.render.writer import write_configuration
from reservoir.dialects.sheet.model import Sheet, kind_of

_STATED = ("zone", "interface", "route", "exclusion", "pool", "binding", "range", "device")
"""Kinds of facts in the order in which they are stated: what takes addresses away comes early."""

_UNDONE = ("device", "range", "binding", "pool", "exclusion", "interface", "zone", "route")
"""The same in the order in which they are undone; among those that are stated."""


class ScriptLine(NamedTuple):
    """One statement of a script."""

    text: str
    """The statement as the device takes it."""
    undo: tuple[str, ...]
    """The statements that take it back, in order."""
    unserved: tuple[str, ...]
    """The networks that both sides serve, and that are not served after it."""
    held_back: tuple[str, ...] = ()
    """What is excluded after it, though neither side excludes it."""


@dataclass(frozen=True)
class Script:
    """The way from one configuration to another; each of its prefixes was proved safe."""

    lines: Sequence[ScriptLine]

    def given_to(self, text: str, sheet: Sheet) -> str:
        """The text of a configuration once the device has been given it all."""
        text = _ended(text)
        for line in self.lines:
            text = applied(PresentText.of(text, sheet), line.text, sheet)
        return text


@dataclass(frozen=True)
class DeviceScript:
    """The way of one device from its old to its new configuration."""

    device: str
    dialect: str
    old: str
    """The text of its old configuration."""
    new: str
    """The text of its new one."""
    script: Script | None
    """None where the dialect has no lines that undo others: the file is replaced as a whole."""
    comment: str
    """What begins a comment there; empty if nothing does."""
    why_not: str = ""
    """Why there is no safe script, if there is none."""


@dataclass(frozen=True)
class Stage:
    """What is done together, and what is waited for before the next stage."""

    what: tuple[str, ...]
    """What it does, in sentences."""
    scripts: Sequence[DeviceScript]
    wait: int
    """Seconds until the next stage may begin; 0 for none."""
    until: str
    """What has happened by then."""


class UnsafeError(Exception):
    """There is no order of statements that is safe at every point."""


def script(old: str, new: str, sheet: Sheet, device: str) -> Script:
    """The statements that lead from one configuration of a device to another.

    Args:
        old: The text of its present configuration.
        new: The text of the configuration that it is to have.
        sheet: Its dialect, which has lines that undo others.
        device: What it is called.

    Raises:
        UnsafeError: it can't be done by statements, or no order of them is safe.
    """
    states = _States(sheet, device)
    before, after = (PresentText.of(_ended(text), sheet) for text in (old, new))
    lines: list[ScriptLine] = []
    try:
        for part in parts_that_differ(before, after, sheet):
            lines += _Ordering(states, states.of(part.old), states.of(part.new)).ordered()
    except NotStatedError as error:
        raise UnsafeError(str(error)) from None
    return Script(lines)


def device_script(name: str, sheet: Sheet, before: str, after: str) -> DeviceScript:
    """The script from one text of a device's configuration to another."""
    comment = next(iter(sheet.notation.comments), "")
    made, why_not = None, ""
    if sheet.undo_words:
        try:
            made = script(before, after, sheet, name)
        except UnsafeError as error:
            why_not = str(error)
    return DeviceScript(name, sheet.name, before, after, made, comment, why_not)


def _ended(text: str) -> str:
    """A text whose last line ends too."""
    return text if text.endswith("\n") or not text else text + "\n"


Subnet = tuple[str, Prefix]
"""A network's VRF and subnet."""


@dataclass(frozen=True)
class _State:
    """A configuration, and what a device does with it."""

    present: PresentText
    assignable: Mapping[str, AddressSet]
    """By VRF."""
    by_subnet: Mapping[Subnet, AddressSet]
    """What is assigned in each network that is served."""
    served: Mapping[str, Served]
    """By subnet and name: a network may have two pools for a while."""
    names: Mapping[Subnet, str]
    """What the networks are called."""
    overlaps: bool
    """Whether an address is in two pools."""
    device: Device

    @classmethod
    def of(cls, text: str, sheet: Sheet, device: str) -> _State:
        present = PresentText.of(text, sheet)
        lifted = lift_effect(present.reading.device, sheet, device)
        pools = Pools(lifted.plan())
        assignable: dict[str, AddressSet] = {}
        by_subnet: dict[Subnet, AddressSet] = {}
        served = {}
        overlaps = False
        for pool in pools:
            if pool.server is not None:
                vrf, subnet = pool.network.vrf, pool.network.subnet.subnet
                known = assignable.get(vrf, AddressSet())
                overlaps |= not known.isdisjoint(pool.assignable)
                assignable[vrf] = known | pool.assignable
                there = by_subnet.get((vrf, subnet), AddressSet())
                by_subnet[vrf, subnet] = there | pool.assignable
                served[f"{vrf} {subnet} {pool.name}"] = Served.of(pool, pools)
        names = {(pool.network.vrf, pool.network.subnet.subnet): pool.name for pool in pools}
        lines = _in_one_order(lifted.device)
        return cls(present, assignable, by_subnet, served, names, overlaps, lines)

    def is_in(self, subnet: Prefix) -> bool:
        """Whether an interface has an address in a subnet, and is enabled."""
        place = bisect_left(self._held, subnet.span.first)
        return place < len(self._held) and self._held[place] <= subnet.span.last

    @cached_property
    def _held(self) -> Sequence[int]:
        """The addresses of the interfaces that are enabled, ascending."""
        enabled = (there for there in self.device.interfaces.values() if there.enabled)
        return sorted(prefix.address for there in enabled for prefix in there.addresses)

    @cached_property
    def relaying(self) -> frozenset[str]:
        """The interfaces that relay."""
        interfaces = self.device.interfaces.items()
        return frozenset(name for name, there in interfaces if there.relay_to and there.addresses)

    def differs_from(self, other: _State) -> list[str]:
        """What this does otherwise than another."""
        found: list[Difference] = list(compare(other.served, self.served))
        texts = [f"{getattr(each, 'network', '')}: {each}" for each in found]
        if self.device != other.device:
            texts.append("the device's interfaces, zones or routes differ")
        return texts


def _in_one_order(device: Device) -> Device:
    """The device with its lists sorted whose order means nothing."""
    interfaces = {
        name: there.model_copy(
            update={
                "addresses": (*there.addresses[:1], *sorted(there.addresses[1:])),
                "relay_to": tuple(sorted(there.relay_to)),
                "members": tuple(sorted(there.members)),
                "virtual": tuple(sorted(there.virtual)),
            }
        )
        for name, there in device.interfaces.items()
    }
    routes = tuple(sorted(device.routes, key=lambda route: (route.to, route.via)))
    return device.model_copy(update={"interfaces": interfaces, "routes": routes})


class _States:
    """The states of a device; of the last few texts each is worked out once."""

    def __init__(self, sheet: Sheet, device: str) -> None:
        self.sheet, self.device = sheet, device
        self.of = lru_cache(maxsize=8)(self._of)  # the way back from a text leads to those before

    def _of(self, text: str) -> _State:
        return _State.of(text, self.sheet, self.device)


class _Ordering:
    """Finds an order for the statements between two configurations."""

    def __init__(self, states: _States, old: _State, new: _State, *, has_undo: bool = True) -> None:
        self._states, self._sheet, self._has_undo = states, states.sheet, has_undo
        self._steps = steps_between(old.present, new.present, states.sheet)
        self._before, self._after, self._state = old, new, old
        self._common = old.by_subnet.keys() & new.by_subnet.keys()
        self._lines: list[ScriptLine] = []
        self._lost: set[str] = set()
        """The networks that both sides serve, and that are not served now."""
        self._done: set[Statement] = set()
        self._held_back: dict[Span, Step] = {}
        """What is excluded for a while, and what undoes that in the end."""

    def ordered(self) -> list[ScriptLine]:
        """The statements in a safe order.

        In rounds: what can't be done yet, or would interrupt a network, waits for the next one.
        What would free an address waits until that is excluded for a while.

        Raises:
            UnsafeError: there is none.
        """
        queue, waiting = sorted(self._steps, key=_rank), list[Step]()
        self._advance(queue, waiting, may_interrupt=False)
        while waiting:
            queue, waiting = waiting, []
            if self._advance(queue, waiting, may_interrupt=False):
                continue
            queue, waiting = waiting, []
            if not self._advance(queue, waiting, may_interrupt=True):
                self._hold_back(waiting)
        while self._held_back:
            _, undone = self._held_back.popitem()
            if not self._take(undone, may_interrupt=False):
                raise self._stuck(undone)
        wrong = self._state.differs_from(self._after)
        if wrong:
            raise UnsafeError(
                f"the statements don't lead to the new configuration: {listed(wrong[:3])}"
            )
        return self._lines

    def _advance(self, queue: list[Step], waiting: list[Step], *, may_interrupt: bool) -> bool:
        """Take the steps of the queue that can be done now; one only, if it may interrupt."""
        advanced = False
        while queue:
            step = queue.pop(0)
            if self._take(step, may_interrupt=may_interrupt):
                advanced = True
                if may_interrupt:
                    waiting += queue
                    queue.clear()
            else:
                waiting.append(step)
        return advanced

    def _take(self, step: Step, *, may_interrupt: bool) -> bool:
        """Do a step, if that is safe now."""
        said, state = self._with(step)
        if state is None:
            return False
        unserved = tuple(self._unserved(state))
        if not self._is_safe(state) or (not may_interrupt and set(unserved) - self._lost):
            return False
        back = self._back(state) if self._has_undo else ()
        held_back = tuple(map(str, self._held_back))
        self._lines.append(ScriptLine(said, back, unserved, held_back))
        self._state, self._lost = state, set(unserved)
        self._done.add(step.statement)
        return True

    def _with(self, step: Step) -> tuple[str, _State | None]:
        """What is said for a step, and the state after it; None if it can't be done yet."""
        present = self._state.present
        said = text_of(with_free_number(step, present), self._sheet)
        if step.after is not None and step.after not in self._done:
            return said, None
        try:
            return said, self._states.of(applied(present, said, self._sheet))
        except NotStatedError:
            return said, None  # its block isn't there yet

    def _stuck(self, step: Step) -> UnsafeError:
        said = text_of(step, self._sheet).strip()
        return UnsafeError(f"there is no safe moment for {said!r}")

    def _hold_back(self, waiting: Sequence[Step]) -> None:
        """Exclude what steps would free that neither side assigns, as a client's old address.

        Such an address is bound to one client before, and to another after.

        Raises:
            UnsafeError: there is none, or it can't be excluded.
        """
        was_held = len(self._held_back)
        for step in waiting:
            _, state = self._with(step)
            for span in self._freed(state) if state is not None else ():
                if span not in self._held_back:
                    self._exclude(span)
        if len(self._held_back) == was_held:
            raise self._stuck(waiting[0])

    def _exclude(self, span: Span) -> None:
        """Exclude addresses for a while, if a line can say so."""
        device = self._state.present.reading.device
        for exclusion in steps_to_exclude(device, span, self._sheet):
            undone = exclusion.statement._replace(undoes=True)
            self._held_back[span] = replace(exclusion, statement=undone)
            if not self._take(exclusion, may_interrupt=False):
                del self._held_back[span]

    def _freed(self, state: _State) -> Iterator[Span]:
        """What a state assigns, and neither the old nor the new configuration does."""
        for vrf, assignable in state.assignable.items():
            allowed = self._before.assignable.get(vrf, AddressSet())
            allowed |= self._after.assignable.get(vrf, AddressSet())
            if not assignable <= allowed:
                yield from (assignable - allowed).spans()

    def _is_safe(self, state: _State) -> bool:
        """Whether a state assigns only what the old or the new configuration does."""
        if any(self._freed(state)):
            return False
        refuses = Behaviour(self._sheet).refuses_overlapping_pools
        return not (refuses and state.overlaps and not self._before.overlaps)

    def _unserved(self, state: _State) -> Iterator[str]:
        """The networks that both sides serve or relay, and a state doesn't."""
        for key in self._common:
            before, after = self._before.by_subnet[key], self._after.by_subnet[key]
            there = state.by_subnet.get(key)
            is_local = self._before.is_in(key[1]) and self._after.is_in(key[1])
            has_way = state.is_in(key[1]) or not is_local
            if there is None or (before and after and not there) or not has_way:
                yield self._after.names[key]
        for interface in self._before.relaying & self._after.relaying - state.relaying:
            yield f"what {interface} relays"

    def _back(self, after: _State) -> tuple[str, ...]:
        """The statements that lead back from a state to the present one, as safe as those there."""
        ordering = _Ordering(self._states, after, self._state, has_undo=False)
        return tuple(line.text for line in ordering.ordered())


def steps_to_exclude(device: Fact, span: Span, sheet: Sheet) -> list[Step]:
    """The statements that exclude addresses from the pool that has them; none if no line can."""
    after = deepcopy(device)
    owner = after if Behaviour(sheet).excludes_device_wide else _pool_of(after, span, sheet)
    if owner is None:
        return []
    owner.children.append(Fact("exclusion", {"first": span.first, "last": span.last}))
    old, new = (
        PresentText.of(write_configuration(facts, sheet).text, sheet) for facts in (device, after)
    )
    return steps_between(old, new, sheet)


def _pool_of(device: Fact, span: Span, sheet: Sheet) -> Fact | None:
    interfaces = {fact.get("name"): fact for fact in device.of_kind("interface")}
    for pool in pools_of(device, interfaces):
        subnet = subnet_of(pool, interfaces, sheet)
        if subnet is not None and subnet.span.holds(span.first):
            return pool  # of an interface a copy, but with the same list inside
    return None


def _rank(step: Step) -> tuple[int, int]:
    """What comes early: additions that take addresses away, then what doesn't matter for them."""
    kind = kind_of(step.row)
    order = _UNDONE if step.statement.undoes else _STATED
    place = order.index(kind) if kind in order else len(order) // 2
    relays = "relay_to" in step.row.mentioned
    if step.statement.undoes:
        if relays:
            return 2, -1  # not before the new one is there
        return (2 if kind in ("exclusion", "interface", "zone", "route") else 0), place
    return 1, 9 if relays else place
