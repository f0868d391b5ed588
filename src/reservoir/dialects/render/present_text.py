"""Puts what a device serves into the configuration that it has; the rest stays as it is.

Both texts, the new one and the present one, are read as nodes. What both state is left alone;
what only the new one states is put beside its neighbours; what only the present one states of the
new one's networks is taken out. So the present text keeps its layout, its remarks, its other
networks and all that is about other things, byte for byte.
"""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Collection, Hashable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import MalformedValueError, Prefix
from reservoir.dialects.facts.by_address import addresses_of
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.facts.options import option_data
from reservoir.dialects.facts.whereabouts import Whereabouts
from reservoir.dialects.notations.nodes import Fault, Node, Nodes, Spot, TextEdit, all_nodes
from reservoir.dialects.parse.node_reader import Said
from reservoir.dialects.parse.reader import Reading, read_nodes
from reservoir.dialects.render.numbers import Numbers, numbered
from reservoir.dialects.sheet.model import Sheet, kind_of
from reservoir.dialects.sheet.patterns import head_of


@dataclass(frozen=True)
class PresentText:
    """The configuration that a device has, as it was read."""

    text: str
    reading: Reading
    nodes: Nodes
    said: dict[Node, Said]
    """How each node was understood."""

    @classmethod
    def of(cls, text: str, sheet: Sheet) -> PresentText:
        """Read a text."""
        return cls(text, *read_nodes(text if text.endswith("\n") else text + "\n", sheet))

    def leave(self, places: Collection[tuple[int, int]]) -> None:
        """Leave alone what stands at some lines and columns, as if it were about other things."""
        for node in all_nodes(self.nodes.top):
            if (node.line, node.column) in places:
                for inner in (node, *all_nodes(node.children)):
                    self.said.pop(inner, None)


@dataclass(frozen=True)
class Planned:
    """What a text may be changed for."""

    served: AddressSet
    """The subnets of the networks that the device serves, and those that they have now."""
    known: AddressSet
    """Those of all networks in the plan, and those that they have now."""
    left: AddressSet = AddressSet()
    """Those that they have now and won't have."""
    settled: AddressSet = AddressSet()
    """Those of networks that are served as planned already: what is said of them stays."""
    alone: bool = False
    """Whether nothing else may be served."""


@dataclass(frozen=True)
class Merged:
    """What became of an existing configuration."""

    text: str
    faults: tuple[Fault, ...]
    """Where its notation is broken; it is as it was then."""
    removed: tuple[tuple[int, str], ...] = ()
    """Pools and bindings that the plan doesn't have, which were taken out: where they stood."""
    others: tuple[tuple[int, str], ...] = ()
    """Those that stay, since they are of networks that the device doesn't serve in the plan."""
    added: tuple[tuple[str, str], ...] = ()
    """Interfaces and zones that the networks need and that were not there: their first lines."""
    missing: tuple[str, ...] = ()
    """What isn't there and can't be added, since something else is in its place."""
    left: tuple[tuple[int, str, str], ...] = ()
    """What isn't about DHCP and stands otherwise there: its line, what it says, the plan's."""
    readdressed: tuple[tuple[int, str, str, str], ...] = ()
    """Interfaces that get other addresses: their lines, their names, the old and the new ones."""


def merge_into(present: PresentText, new: str, planned: Planned, sheet: Sheet) -> Merged:
    """Put what ``new`` states about DHCP into a present text, both in the sheet's dialect."""
    if present.nodes.faults:
        return Merged(present.text, tuple(present.nodes.faults))
    has_end = present.text.endswith("\n") or not present.text
    text = present.text if has_end else present.text + "\n"
    merging = _Merging(text, present, planned, sheet)
    reading, wanted, merging.new_said = read_nodes(new, sheet)
    merging.interfaces = {f.get("name"): f for f in reading.device.of_kind("interface")}
    merging.new_whereabouts = Whereabouts(reading.device)
    merging.needed = _needed(reading.device, planned)
    merging.inside((), present.nodes.top, wanted.top)
    placed = sheet.notation.edited(text, merging.edits)
    return Merged(
        text=placed if has_end else placed.removesuffix("\n").removesuffix("\r"),
        faults=(),
        removed=tuple(sorted(merging.removed)),
        others=tuple(sorted(merging.others)),
        added=tuple(merging.added),
        missing=tuple(merging.missing),
        left=tuple(merging.left),
        readdressed=tuple(merging.readdressed),
    )


def _needed(device: Fact, planned: Planned) -> set[str]:
    """The interfaces in networks that a device serves or relays; what they are on, and made of."""
    interfaces = {str(fact.get("name")): fact for fact in device.of_kind("interface")}
    found = {
        name
        for name, fact in interfaces.items()
        if any(prefix.address in planned.served for prefix in addresses_of(fact))
        or (
            fact.get("relay_to")
            and any(prefix.address in planned.known for prefix in addresses_of(fact))
        )
    }
    for name in list(found):
        found |= {*interfaces[name].get("members", ())}
        parent = interfaces[name].get("parent")
        if parent is not None:
            found.add(str(parent))
    return found


_Pair = tuple[Node, Node | None]
"""A node that is wanted, and the one there that is about the same thing."""

_LISTED = ("pool", "binding")
"""Kinds of which people are told what was removed, and what stays."""

_HELD = frozenset(("address", "addresses", "secondary"))
"""The fields of an interface that say which addresses it holds."""

_SMALL = ("range", "exclusion", "option", "binding")
"""Kinds of which one may be changed into another; nothing about other things is inside."""


@dataclass
class _Merging:
    text: str
    present: PresentText
    planned: Planned
    sheet: Sheet
    new_said: dict[Node, Said] = field(default_factory=dict)
    edits: list[TextEdit] = field(default_factory=list)
    removed: list[tuple[int, str]] = field(default_factory=list)
    others: list[tuple[int, str]] = field(default_factory=list)
    added: list[tuple[str, str]] = field(default_factory=list)
    missing: list[str] = field(default_factory=list)
    interfaces: Mapping[Any, Fact] = field(default_factory=dict)
    """Those that are wanted, by name."""
    needed: Collection[str] = ()
    """The names of those that the networks need."""
    left: list[tuple[int, str, str]] = field(default_factory=list)
    readdressed: list[tuple[int, str, str, str]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.said = self.present.said
        self.new_whereabouts = Whereabouts(Fact("device", {}))
        device = self.present.reading.device
        self._there = {fact.get("name"): fact for fact in device.of_kind("interface")}
        self._whereabouts = Whereabouts(self.present.reading.device)

    def inside(
        self, around: tuple[Node, ...], present: Sequence[Node], wanted: Sequence[Node]
    ) -> None:
        """Bring what is in a node, or at the top, to what is wanted there."""
        if not present and not wanted:
            return
        waiting: dict[Hashable, list[Node]] = defaultdict(list)
        for node in present:
            if node in self.said:
                waiting[identity_of(self.said[node])].append(node)
        pairs: list[_Pair] = []
        # What the sheet itself doesn't read again has no place; that it is missing is found later.
        for node in (node for node in wanted if node in self.new_said):
            same = waiting[identity_of(self.new_said[node])]
            last_counts = bool(self.sheet.notation.once)
            pairs.append((node, same.pop(-1 if last_counts else 0) if same else None))
        every = [node for nodes in waiting.values() for node in nodes]
        every = [node for node in every if not self._is_settled(self.said[node], self._whereabouts)]
        pairs = [
            (node, there)
            for node, there in pairs
            if there is not None or not self._is_settled(self.new_said[node], self.new_whereabouts)
        ]
        gone = [node for node in every if self._may_go(self.said[node])]
        self.others += [
            (node.line, self.said[node].fact.label)
            for node in every
            if self.said[node].row.kind in _LISTED and not self._may_go(self.said[node])
        ]
        self._replace_small(pairs, gone)
        self._replace_unread(pairs, present)
        goes = {node for node in gone if self.said[node].row.about_dhcp}
        numbers = Numbers(self.said[n] for n in present if n in self.said and n not in goes)
        after: Node | None = None
        run: list[Node] = []
        for node, there in pairs:
            if there is None:
                run += self._new(node, numbers)
                continue
            self._put(run, Spot(around, after, there))
            run, after = [], there
            numbers.pass_by(self.said.get(there))
            self._meet(around, there, node)
        self._put(run, Spot(around, after, None))
        for node in gone:
            self._withdraw(around, node)

    def _put(self, nodes: Sequence[Node], spot: Spot) -> None:
        if nodes:
            self.edits += self.sheet.notation.put(self.text, spot, nodes)

    def _replace_small(self, pairs: list[_Pair], gone: list[Node]) -> None:
        """Let what is new and small stand where something of its kind was, in order."""
        free: dict[str, deque[Node]] = defaultdict(deque)
        for old in gone:
            free[self.said[old].row.kind].append(old)
        used = set[Node]()
        for place, (node, there) in enumerate(pairs):
            kind = self.new_said[node].row.kind
            if there is None and kind in _SMALL and free[kind]:
                instead = free[kind].popleft()
                pairs[place] = (node, instead)
                used.add(instead)
        gone[:] = [old for old in gone if old not in used]

    def _replace_unread(self, pairs: list[_Pair], present: Sequence[Node]) -> None:
        """Let a value stand where one of the same field was that could not be understood.

        Only of what is assigned: all else stays, understood or not.
        """
        unread = [node for node in present if node not in self.said]
        for place, (node, there) in enumerate(pairs):
            row = self.new_said[node].row
            is_value = row.adds_fields and row.repeat != "*" and bool(row.pattern.slots)
            if there is None and is_value and row.about_dhcp and row.pattern.head:
                opening = row.pattern.opening
                for old in unread:
                    if head_of(old.text.removeprefix(opening)) == row.pattern.head:
                        pairs[place] = (node, old)
                        unread.remove(old)
                        break

    def _meet(self, around: tuple[Node, ...], there: Node, wanted: Node) -> None:
        """Two nodes that are about the same thing."""
        old, new = self.said.get(there), self.new_said[wanted]
        is_settled = self._is_settled(new, self.new_whereabouts)
        if is_settled or self._is_unchanged(there, wanted):
            return
        if old is not None and _is_one_option(old, new):
            return
        if old is None or (self._serves(new) and not _is_same(old, new)):
            wanted = wanted if old is None else numbered(wanted, new, old.number)
            self.edits += self.sheet.notation.swap(self.text, around, there, wanted)
        elif _is_same(old, new):
            self.inside((*around, there), there.children, wanted.children)
        elif self._comes_instead(old):
            self._tell_new_address(there, old.fact, new.fact)
            self.edits += self.sheet.notation.swap(self.text, around, there, wanted)
        else:
            self.left.append((there.line, there.text, wanted.text))
            self.inside((*around, there), there.children, wanted.children)

    def _is_unchanged(self, there: Node, wanted: Node) -> bool:
        """Whether two nodes are the same to the letter, with all that is in them, understood."""
        return (
            there.text == wanted.text
            and there in self.said
            and len(there.children) == len(wanted.children)
            and all(map(self._is_unchanged, there.children, wanted.children))
        )

    def _new(self, node: Node, numbers: Numbers) -> list[Node]:
        """What of a node that isn't there is to be put there."""
        said = self.new_said[node]
        if self._is_held(said) and self._holds_already(said.fact):
            return []
        if self._serves(said) or self._is_held(said):
            return [numbers.numbered(node, said)]
        if said.row.is_frame:
            new = [one for child in node.children for one in self._new(child, Numbers())]
            return [node.holding(new)] if new else []
        inside = [self.new_said[inner] for inner in all_nodes(node.children)]
        if not self._is_way(said) and not any(map(self._serves, inside)):
            return []
        rival = self._rival(said.fact)
        if rival is not None:
            self.missing.append(f"{said.fact.label} is missing, and {rival}")
            return []
        self.added.append((said.fact.label, node.text.strip()))
        return [numbers.numbered(node, said)]

    def _rival(self, wanted: Fact) -> str | None:
        """What is in the place of an interface that isn't there: it may be the same, renamed."""
        if wanted.kind != "interface":
            return None
        own = list(addresses_of(wanted))
        on_trunk = wanted.get("parent"), wanted.get("vlan")
        for there in self.present.reading.device.of_kind("interface"):
            if there.get("name") == wanted.get("name"):
                continue
            for prefix in addresses_of(there):
                if any(mine.subnet.span.holds(prefix.address) for mine in own):
                    return f"{there.label} holds {prefix}"
            if all(on_trunk) and (there.get("parent"), there.get("vlan")) == on_trunk:
                return f"{there.label} has VLAN tag {on_trunk[1]} on {on_trunk[0]}"
        return None

    def _withdraw(self, around: tuple[Node, ...], node: Node) -> None:
        """Take out what is about DHCP, and nothing that a plan cannot model."""
        said = self.said[node]
        kept = KINDS[kind_of(said.row)].kept
        if self._comes_instead(said):
            self._tell_new_address(node, said.fact, self.interfaces[said.fact.get("name")])
            self.edits += self.sheet.notation.cut(self.text, around, node)
        elif not said.row.about_dhcp:
            self.inside((*around, node), node.children, ())
        elif not (said.row.mentioned and said.row.mentioned <= set(kept)):
            self.edits += self.sheet.notation.cut(self.text, around, node)
            if said.row.kind in _LISTED:
                self.removed.append((node.line, said.fact.label))

    def _may_go(self, said: Said) -> bool:
        """Whether something that the plan doesn't have may be taken out.

        Not what is about a network that the device doesn't serve in the plan.
        """
        if self.planned.alone or not said.row.about_dhcp:
            return True
        about = self._whereabouts.of(said.fact)
        if about is None:
            return said.fact.kind == "device"
        if said.fact.kind == "interface":
            return "relay_to" in said.row.mentioned and self.planned.known.meets(about)
        return self.planned.served.meets(about)

    def _is_settled(self, said: Said, whereabouts: Whereabouts) -> bool:
        """Whether something is said of a network that is served as planned already."""
        if not self.planned.settled or said.fact.kind in ("device", "interface", "zone"):
            return False
        about = whereabouts.of(said.fact)
        if about is None or not self.planned.settled.meets(about):
            return False
        return not (self.planned.served - self.planned.settled).meets(about)

    def _is_way(self, said: Said) -> bool:
        """Whether something is an interface that the networks need, or of one."""
        return said.row.kind == "interface" and said.fact.get("name") in self.needed

    def _comes_instead(self, there: Said) -> bool:
        """Whether another address in the same network comes instead of those that a line states.

        Only of an interface that the networks need; what else it holds stays.
        """
        wanted = self.interfaces.get(there.fact.get("name"))
        if wanted is None or not self._is_held(there):
            return False
        held = [v for value in there.values.values() for v in _each(value) if isinstance(v, Prefix)]
        held = held or list(addresses_of(there.fact))  # a line may state a part of the address
        come = [prefix for prefix in addresses_of(wanted) if prefix not in addresses_of(there.fact)]
        stay = addresses_of(wanted)
        return bool(come) and all(
            any(new.span.holds(prefix.address) or prefix.span.holds(new.address) for new in come)
            or prefix.address in self.planned.left
            for prefix in held
            if prefix not in stay
        )

    def _is_held(self, said: Said) -> bool:
        """Whether a line states nothing but what an interface holds that the networks need."""
        states = said.row.mentioned
        is_needed = said.fact.kind == "interface" and said.fact.get("name") in self.needed
        return is_needed and bool(states) and states <= _HELD

    def _holds_already(self, wanted: Fact) -> bool:
        """Whether an interface holds just what it is to hold, however that is said."""
        there = self._there.get(wanted.get("name"))
        return there is not None and addresses_of(there) == addresses_of(wanted)

    def _tell_new_address(self, node: Node, there: Fact, wanted: Fact) -> None:
        name = there.get("name")
        old, new = (" ".join(map(str, addresses_of(fact))) for fact in (there, wanted))
        if all(told[1] != name for told in self.readdressed):
            self.readdressed.append((node.line, name, old, new))

    def _serves(self, said: Said) -> bool:
        """Whether something is about DHCP; letting DHCP into a zone is, too."""
        return said.row.about_dhcp or "dhcp" in said.values.get("admits", ())


def _each(value: object) -> tuple[object, ...]:
    return value if isinstance(value, tuple) else (value,)


def _is_same(old: Said, new: Said) -> bool:
    """Whether two lines state the same, whatever is inside."""
    return old.row is new.row and old.values == new.values


def _is_one_option(old: Said, new: Said) -> bool:
    """Whether two lines are one option with the same bytes, in whatever form."""
    if old.row.kind != "option" or identity_of(old) != identity_of(new):
        return False
    data = _data(old.fact)
    return data is not None and data == _data(new.fact)


def _data(option: Fact) -> bytes | None:
    try:
        return option.get("data") if "data" in option.fields else option_data(option)
    except MalformedValueError:
        return None


def identity_of(said: Said) -> Hashable:
    """What is the same of two nodes that are about the same thing."""
    row, fact = said.row, said.fact
    if row.adds_fields:
        if row.repeat != "*":
            return id(row), (), said.owner
        own = said.number if said.number is not None else tuple(sorted(said.values.items()))
        return id(row), own, said.owner
    return fact.kind, tuple(fact.get(name) for name in KINDS[fact.kind].identity), said.owner
