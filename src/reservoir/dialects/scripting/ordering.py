"""Finds an order for the statements between two configurations that is safe at every point."""

from __future__ import annotations

import enum
from collections.abc import Iterator, Mapping, Sequence, Set
from copy import deepcopy
from dataclasses import replace
from functools import cached_property, reduce
from typing import NamedTuple

from reservoir.core.compare.pairing import as_planned
from reservoir.core.pairing import Pairing
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Span
from reservoir.core.wording import listed
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.pool_subnets import pools_of, subnet_of
from reservoir.dialects.facts.fact import Fact
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
from reservoir.dialects.scripting.states import State, States, Subnet, Wrong
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
    wrong: tuple[Wrong, ...] = ()
    """The errors after it that neither side has."""


class UnsafeError(Exception):
    """There is no order of statements that is safe at every point."""


class Leeway(enum.IntEnum):
    """What a statement may do for a while, if nothing else is left."""

    NONE = 0
    GAPS = 1
    """A network that both sides serve isn't served: clients keep what they have, and ask again."""
    ERRORS = 2
    """A network is served with an error that neither side has: clients keep that, too."""


class Ordering:
    """Finds an order for the statements between two configurations."""

    def __init__(self, states: States, old: State, new: State, *, has_undo: bool = True) -> None:
        """Find the statements.

        Raises:
            NotStatedError: something differs that no line can undo.
        """
        self._states, self._sheet, self._has_undo = states, states.sheet, has_undo
        self._steps = steps_between(old.present, new.present, states.sheet)
        self._before, self._after, self._state = old, new, old
        self._lines: list[ScriptLine] = []
        self._lost: set[str] = set()
        """The networks that both sides serve, and that are not served now."""
        self._wrong: set[Wrong] = set()
        """The errors that are there now, and that neither side has."""
        self._done: set[Statement] = set()
        self._held_back: dict[Span, Step] = {}
        """What is excluded for a while, and what undoes that in the end."""

    @cached_property
    def _old_names(self) -> Mapping[str, str]:
        """The old names of the networks that both sides have, by the new ones."""
        return as_planned(self._before.pools, self._after.pools)

    @cached_property
    def _common(self) -> Sequence[tuple[Subnet, Subnet]]:
        """The networks that both sides serve, by what they are before and after."""
        before, after = self._before, self._after
        old = {before.names[subnet]: subnet for subnet in before.by_subnet}
        return [
            (subnet, subnet) if subnet in before.by_subnet else (old[was], subnet)
            for subnet in after.by_subnet
            for was in [self._old_names.get(after.names[subnet], "")]
            if subnet in before.by_subnet or was in old
        ]

    @cached_property
    def _known_wrong(self) -> frozenset[Wrong]:
        """The errors that may be there: of the new side, and of what the old one serves."""
        served = {"", *self._before.served_names}
        new_names = {old: new for new, old in self._old_names.items()}
        return self._after.wrong | {
            (rule, name)
            for rule, network in self._before.wrong
            if network in served
            for name in (network, new_names.get(network, network))
        }

    def ordered(self) -> list[ScriptLine]:
        """The statements in a safe order.

        In rounds: what can't be done yet, would be an error for a while or would interrupt a
        network, waits for the next one. What would free an address waits until that is excluded
        for a while.

        Raises:
            UnsafeError: there is none.
        """
        waiting = sorted(self._steps, key=_rank)
        while waiting:
            if not any(self._advance(waiting, leeway) for leeway in Leeway):
                self._hold_back(waiting)
        while self._held_back:
            _, undone = self._held_back.popitem()
            if not self._take(undone, Leeway.GAPS):
                raise self._stuck(undone)
        wrong = self._state.differs_from(self._after)
        if wrong:
            raise UnsafeError(
                f"the statements don't lead to the new configuration: {listed(wrong[:3])}"
            )
        return self._lines

    def _advance(self, waiting: list[Step], leeway: Leeway) -> bool:
        """Take the steps that can be done now; one only, if it may do harm for a while."""
        before = len(waiting)
        for step in list(waiting):
            if self._take(step, leeway):
                waiting.remove(step)
                if leeway is not Leeway.NONE:
                    break
        return len(waiting) < before

    def _take(self, step: Step, leeway: Leeway) -> bool:
        """Do a step, if that is safe now."""
        said, state = self._with(step)
        if state is None:
            return False
        unserved = tuple(self._unserved(state))
        if not self._is_safe(state) or (leeway is Leeway.NONE and set(unserved) - self._lost):
            return False
        wrong = self._new_wrong(state)
        if leeway < Leeway.ERRORS and wrong - self._wrong:
            return False
        back = self._back(state) if self._has_undo else ()
        held_back = tuple(map(str, self._held_back))
        self._lines.append(ScriptLine(said, back, unserved, held_back, tuple(sorted(wrong))))
        self._state, self._lost, self._wrong = state, set(unserved), wrong
        self._done.add(step.statement)
        return True

    def _new_wrong(self, state: State) -> set[Wrong]:
        """The errors of what a state serves, and that neither side has."""
        served = {"", *state.served_names}
        return {wrong for wrong in state.wrong - self._known_wrong if wrong[1] in served}

    def _with(self, step: Step) -> tuple[str, State | None]:
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
            if not self._take(exclusion, Leeway.ERRORS):
                del self._held_back[span]

    def _freed(self, state: State) -> Iterator[Span]:
        """What a state assigns, and neither the old nor the new configuration does."""
        for vrf, assignable in state.assignable.items():
            allowed = self._before.assignable.get(vrf, AddressSet())
            allowed |= self._after.assignable.get(vrf, AddressSet())
            if not assignable <= allowed:
                yield from (assignable - allowed).spans()
        for subnet in state.by_subnet.keys() & self._in_pairs:
            if state.by_subnet[subnet] and self._says(state, subnet) not in self._said(subnet):
                yield reduce(AddressSet.__or__, (s for s, _ in self._said(subnet))).hull

    @cached_property
    def _in_pairs(self) -> Set[Subnet]:
        """The networks that the device begins or ceases to serve as one of a pair.

        It must not do so in part: the other one would be out of step with it.
        """
        sides = self._before, self._after
        paired = {subnet for side in sides for subnet in side.pairings}
        return {s for s in paired if not all(side.by_subnet.get(s) for side in sides)}

    def _said(self, subnet: Subnet) -> Sequence[tuple[AddressSet, Pairing | None]]:
        """What the old and the new configuration say of a network and of its pair."""
        return [self._says(side, subnet) for side in (self._before, self._after)]

    @staticmethod
    def _says(state: State, subnet: Subnet) -> tuple[AddressSet, Pairing | None]:
        return state.by_subnet.get(subnet, AddressSet()), state.pairings.get(subnet)

    def _is_safe(self, state: State) -> bool:
        """Whether a state assigns only what the old or the new configuration does."""
        if any(self._freed(state)):
            return False
        refuses = Behaviour(self._sheet).refuses_overlapping_pools
        return not (refuses and state.overlaps and not self._before.overlaps)

    def _unserved(self, state: State) -> Iterator[str]:
        """The networks that both sides serve or relay, and a state doesn't."""
        for old, new in self._common:
            before, after = self._before.by_subnet[old], self._after.by_subnet[new]
            there = state.by_subnet.get(old if old in state.by_subnet else new)
            is_local = self._before.is_in(old[1]) and self._after.is_in(new[1])
            is_in = state.is_in(old[1] if old in state.by_subnet else new[1])
            if there is None or (before and after and not there) or (is_local and not is_in):
                yield self._after.names[new]
        for interface in self._before.relaying & self._after.relaying - state.relaying:
            yield f"what {interface} relays"

    def _back(self, after: State) -> tuple[str, ...]:
        """The statements that lead back from a state to the present one, as safe as those there."""
        ordering = Ordering(self._states, after, self._state, has_undo=False)
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
