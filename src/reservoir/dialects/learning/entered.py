"""What may have been entered on a device to have it do what a plan says.

Nobody knows yet how the device wants it: as ranges or as what is kept out of them, a bound client
in the pool or by a pool of its own. So the facts of each way are known, and those that the
configuration states show which it was.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from typing import Any

from reservoir.core.plan.model import Plan
from reservoir.core.plan.offered import OFFERED, SHORT_FOR
from reservoir.core.pools import Pools
from reservoir.core.values import options as dhcp_options
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Span, parse_address
from reservoir.dialects.behaviour.lower import lower
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import KINDS, WORDS
from reservoir.dialects.sheet.loader import load_sheet
from reservoir.dialects.sheet.model import Sheet

_ROWS = """
device | box {name}
zone * | zone {name}
*      |   admits {admits}
interface * | leg {name}
?      |   at {address}
*      |   also {secondary}
?      |   on {parent} tag {vlan}
?      |   members {members}
?      |   zone {zone}
?      |   table {vrf}
*      |   relay {relay_to}
? enabled=no |   off
route * | route {to} {via}
pool * | pool {name}
       |   net {subnet}
?      |   leg {interface}
?      |   gateway {gateway}
?      |   dns {dns}
?      |   domain {domain}
?      |   lease {lease}
?      |   boot {next_server}
?      |   partner {partner}
?      |   leads {leads}
?      |   after {after}
option * |   option {code} {type} {value:rest}
range *  |   range {first} {last} {count} {offset}
exclusion * |   keep {first} {last} [? {note}]
binding * |   bind {address} {mac} [? {name}]
OWN
binding * |   bind {address} id {client_id} [? {name}]
OWN"""

_OFFER = """?        |     gateway {gateway}
?        |     dns {dns}
?        |     domain {domain}
?        |     lease {lease}
?        |     boot {next_server}
option * |     option {code} {type} {value:rest}
"""

_OWN = "\n?        |     hostname {hostname}\n" + _OFFER

_CLASSES_IN_POOL = f"""
*        |   only {{admits}}
class *  |   class {{name}}
range *  |     range {{first}} {{last}} {{count}} {{offset}}
{_OFFER}class *  | class {{name}}
WORDS"""

_POOL_OF_CLASS = """
WORDS"""

_WORDS = "".join(f"?        |   {word} {{{word}}}\n" for word in WORDS)

_WAYS = (
    ("in-pool", _CLASSES_IN_POOL, {"bindings": "in-pool"}),
    ("own-pool", _POOL_OF_CLASS, {"bindings": "one-address-pool"}),
)
"""How devices differ in what has to be entered: with classes, and with what else; the first says it
as the plan does."""

_HEADER = """sheet entered
block indent 2
quote "\\"" doubled
list " "
duration "{s}"
trait exclusions in-pool
trait bindings in-pool
trait pool-found-by joined-interface
trait shared-segment alike
trait pair halves
"""


def _sheets() -> Iterator[Sheet]:
    """A sheet of each way that has a row for everything."""
    for classes, rows, traits in _WAYS:
        body = f"{_ROWS}{rows}".replace("OWN", _OWN).replace("WORDS", _WORDS)
        text = f"{_HEADER}trait classes {classes}\n---{body}"
        general = load_sheet(text, "entered", proven=True)
        yield replace(general, traits={**general.traits, **traits})


@dataclass(eq=False)
class Known:
    """A fact that may be in the configuration."""

    kind: str
    fields: dict[str, Any]
    around: tuple[Known, ...] = ()
    """The facts that it may be in, the nearest first."""
    is_planned: bool = True
    """Whether the plan says it just so; else some devices would have to be told so."""
    inside: list[Known] = field(default_factory=list)
    added: frozenset[str] = frozenset()
    """Its fields that only some devices would have to be told of it."""

    def is_in(self, other: Known) -> bool:
        """Whether it may be in another fact, or is it."""
        return self is other or any(around.is_in(other) for around in self.around)

    @property
    def depth(self) -> int:
        """How many facts it may be in."""
        return 1 + max((around.depth for around in self.around), default=0)

    @property
    def pool(self) -> Known | None:
        """The pool that it belongs to."""
        if self.kind == "pool":
            return self
        return next((pool for around in self.around if (pool := around.pool)), None)


def entered(plan: Plan, device: str) -> list[Known]:
    """The facts that may have been entered for a device of a plan; the device is the first."""
    # What it and its partner are is what nobody knows yet.
    devices = {
        name: each.model_copy(update={"dialect": None}) for name, each in plan.devices.items()
    }
    pools = Pools(replace(plan, devices=devices))
    found: dict[tuple[Any, ...], Known] = {}
    for number, sheet in enumerate(_sheets()):
        top = lower(pools, device, sheet).device
        for key, fact, above in _with_keys(top):
            known = found.get(key)
            if known is None:
                around = _around(found, fact, above)
                known = Known(fact.kind, {}, around, number == 0)
                found[key] = known
                if around:
                    around[0].inside.append(known)
            known.added |= {name for name in fact.fields if number and name not in known.fields}
            known.fields = {**fact.fields, **known.fields}
    facts = list(found.values())
    _add_what_follows(facts)
    return [*facts, *_as_options(facts)]


def _add_what_follows(facts: Sequence[Known]) -> None:
    """Add what some devices state besides.

    Which interfaces serve, the longest lease, who is in a class of which a pool says more.
    """
    classes = {f.fields["name"]: f.fields for f in facts if f.kind == "class" and f.pool is None}
    legs = {fact.fields.get("interface") for fact in facts if fact.kind == "pool"}
    for fact in facts:
        more: dict[str, Any] = {}
        if fact.kind == "interface":
            more["service"] = fact.fields["name"] in legs
            if "address" in fact.fields:
                more["addresses"] = (fact.fields["address"], *fact.fields.get("secondary", ()))
        elif fact.kind == "device":
            more["service"] = True
        elif fact.kind == "pool":
            more["active"] = True
            if "lease" in fact.fields:
                more["longest"] = fact.fields["lease"]
        elif fact.kind == "class" and fact.pool is not None:
            its = classes.get(fact.fields["name"], {})
            more = {word: its[word] for word in WORDS if word in its}
        elif fact.kind == "binding" and fact.pool is not None:
            more["pool"] = fact.pool.fields["name"]
        fact.fields |= more
        fact.added |= more.keys()
        if fact.fields.get("leads"):
            fact.added |= {"leads"}  # one of a pair does unless it is told otherwise


def _as_options(facts: Sequence[Known]) -> Iterator[Known]:
    """Options as bytes, and what has a field of its own as an option by its number."""
    for fact in facts:
        if fact.kind == "option":
            code, (owner, *_) = fact.fields["code"], fact.around
            data = dhcp_options.encode(fact.fields["type"], fact.fields["value"].split())
            yield from _ways_to_say(code, data, owner, facts[0])
        elif fact.kind in ("pool", "class", "binding"):
            for key, code in SHORT_FOR.items():
                if fact.fields.get(key):
                    yield from _ways_to_say(code, fact.fields[key].encode(), fact, facts[0])
            for key, field_ in OFFERED.items():
                if field_.option is not None and fact.fields.get(key):
                    data = field_.encode(fact.fields[key])
                    yield from _ways_to_say(field_.option, data, fact, facts[0])


def _ways_to_say(code: int, data: bytes, owner: Known, device: Known) -> Iterator[Known]:
    """An option by its type, and as bytes."""
    for kind, text in dict.fromkeys([dhcp_options.decode(code, data), ("hex", data.hex())]):
        fields = {"code": code, "type": kind, "value": text, "data": data}
        yield Known("option", fields, (owner, device), is_planned=False, added=owner.added)


def _with_keys(top: Fact) -> Iterator[tuple[tuple[Any, ...], Fact, tuple[Any, ...]]]:
    """Each fact with what tells it from all others, and that of the fact that it is in."""

    def walk(fact: Fact, above: tuple[Any, ...]) -> Iterator[Any]:
        identity = [(name, fact.get(name)) for name in (*KINDS[fact.kind].identity, "last")]
        key = (() if fact.kind == "binding" else above, fact.kind, *identity)
        yield key, fact, above
        for child in fact.children:
            yield from walk(child, key)

    return walk(top, ())


def _around(
    found: Mapping[tuple[Any, ...], Known], fact: Fact, above: tuple[Any, ...]
) -> tuple[Known, ...]:
    """The facts that a fact may be in: that of the plan, its interface, the device."""
    if not above:
        return ()
    owner, device = found[above], next(iter(found.values()))
    name = fact.get("interface") or owner.fields.get("interface")
    legs = (known for known in found.values() if known.kind == "interface")
    leg = next((known for known in legs if known.fields.get("name") == name), None)
    may_be = KINDS[fact.kind].inside
    others = [leg] if leg is not None and "interface" in may_be else []
    return tuple(dict.fromkeys([owner, *others, device]))


def spans_in(text: str, facts: Sequence[Known]) -> list[Known]:
    """Ranges and exclusions that a configuration states and the plan doesn't, but agrees with.

    Two addresses that follow one another are the ends of a range if the plan assigns all between
    them, and those of an exclusion if it assigns none. One that a client is bound to, and the
    gateway, may be excluded by themselves.
    """
    pools = [fact for fact in facts if fact.kind == "pool" and "subnet" in fact.fields]
    known = {(f.pool, f.fields["first"], f.fields["last"]) for f in facts if "first" in f.fields}
    found: list[Known] = []
    lines = [_ADDRESS.findall(line) for line in text.split("\n")]
    addresses = [parse_address(said[0]) for line in lines for said in line]
    alone = Counter(parse_address(line[0][0]) for line in lines if len(line) == 1)
    counted = [
        (parse_address(said), parse_address(said) + int(count) - 1)
        for line in lines
        for said, count in line
        if count and 0 < int(count) < 1 << 24
    ]
    for pool in pools:
        subnet = pool.fields["subnet"].subnet.span
        bound = {f.fields["address"] for f in pool.inside if f.kind == "binding"}
        excluded = _spans(pool, "exclusion")
        ranges = _spans(pool, "range") - excluded
        assigned = ranges - AddressSet.of_addresses([*bound])
        pairs = [*((a, b) for a, b in pairwise(addresses) if a < b), *counted]
        gateway = pool.fields.get("gateway")  # it stands alone where it is the gateway, too
        pairs += [
            (a, a) for a, count in alone.items() if a in bound or (a == gateway and count > 1)
        ]
        for first, last in pairs:
            if not (subnet.holds(first) and subnet.holds(last)) or (pool, first, last) in known:
                continue
            known.add((pool, first, last))
            here = AddressSet([Span(first, last)])
            is_free = first in ranges and last in ranges and not here - excluded - ranges
            kind = "exclusion" if not here & assigned else "range" if is_free else ""
            if kind:
                values = {"first": first, "last": last, "count": last - first + 1}
                values["offset"] = first - subnet.first
                fields = values if kind == "range" else {"first": first, "last": last}
                made = Known(kind, fields, (pool, facts[0]), is_planned=False)
                pool.inside.append(made)
                found.append(made)
    return found


_ADDRESS = re.compile(
    r"(?<![0-9A-Za-z.])((?:(?:25[0-5]|2[0-4][0-9]|1?[0-9]?[0-9])[.]){3}"
    r"(?:25[0-5]|2[0-4][0-9]|1?[0-9]?[0-9]))(?![0-9A-Za-z/]|[.][0-9])(?:[^0-9\n]+([0-9]{1,8})(?![0-9.:/]))?"
)
"""An address, and the number that may follow it in its line."""


def _spans(pool: Known, kind: str) -> AddressSet:
    """The addresses of what the plan says of a pool."""
    facts = (fact for fact in pool.inside if fact.kind == kind and fact.is_planned)
    return AddressSet(Span(fact.fields["first"], fact.fields["last"]) for fact in facts)
