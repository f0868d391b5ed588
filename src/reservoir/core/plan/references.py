"""Names that one part of a plan uses for another: each must exist."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import Any, NamedTuple

from reservoir.core.plan.model import Plan, PlanPath
from reservoir.core.wording import hint

_ANY = "*"
"""Any key of a mapping, any position of a list."""

_NAMING: tuple[tuple[PlanPath, str], ...] = (
    (("devices", _ANY, "interfaces", _ANY, "parent"), "interface"),
    (("devices", _ANY, "interfaces", _ANY, "members", _ANY), "interface"),
    (("devices", _ANY, "interfaces", _ANY, "zone"), "zone"),
    (("networks", _ANY, "served_by", _ANY, "device"), "device"),
    (("networks", _ANY, "served_by", _ANY, "pair", _ANY), "device"),
    (("networks", _ANY, "by_class", _ANY), "class"),
    (("networks", _ANY, "admits", _ANY), "class"),
    (("networks", _ANY, "static", _ANY, "owner"), "device or machine"),
    (("checks", "severity", _ANY), "rule"),
    (("accept", _ANY, "rule"), "rule"),
)
"""Where names are used, and of what; a key is a name where the path ends at a mapping's."""


_SHORTENED = (_ANY, "served_by", "admits", "members")
"""Of what is a list or a block here, a file may have its only word in its place."""


class Reference(NamedTuple):
    """A name that is used for what is defined elsewhere."""

    path: PlanPath
    """Where it is used."""
    kind: str
    """What it names: ``device``, ``interface``, ``zone``, ``class``, ``rule``, or
    ``device or machine``."""
    name: str

    @property
    def defined_at(self) -> PlanPath:
        """Where the plan defines it, if it does; empty for a rule."""
        return (*among, self.name) if (among := _among(self.kind, self.path)) else ()


class Dangling(NamedTuple):
    """A name that nothing has."""

    path: PlanPath
    message: str


def references(plan: Plan) -> Iterator[Reference]:
    """Every name in the plan that is defined elsewhere."""
    for pattern, kind in _NAMING:
        for path, name in _walked(plan, pattern, ()):
            yield Reference(path, kind, name)


def kind_named_at(path: PlanPath) -> str | None:
    """What a name at a path of the file names, were it that nothing stands there yet.

    A list of one may stand without its dash, a server by its name alone.
    """
    for pattern, kind in _NAMING:
        for length in range(_least(pattern), len(pattern) + 1):
            pairs = zip(pattern, path, strict=False)
            if len(path) == length and all(step in (_ANY, given) for step, given in pairs):
                return kind
    return None


def _least(pattern: PlanPath) -> int:
    """How many steps of a pattern a file needs: what its short forms leave out is at the end."""
    length = len(pattern)
    while pattern[length - 1] in (_ANY, "device") and pattern[length - 2] in _SHORTENED:
        length -= 1
    return length


def names_of(plan: Plan, kind: str, path: PlanPath, rules: Collection[str]) -> Collection[str]:
    """The names that there are of a kind, where a path uses one.

    Args:
        plan: The plan.
        kind: What is named, as in :class:`Reference`.
        path: Where: interfaces and zones are those of the device there.
        rules: The names of all rules.
    """
    if kind == "rule":
        return rules
    if kind == "device or machine":
        return {**plan.devices, **dict.fromkeys(_machines(plan))}
    within: Any = plan
    for step in _among(kind, path):
        within = _part(within, step)
    return within if isinstance(within, Mapping) else ()


def dangling_references(plan: Plan, rules: Collection[str]) -> Iterator[Dangling]:
    """Every name in the plan that should be defined elsewhere and isn't.

    Args:
        plan: The plan.
        rules: The names of all rules, which severities and acceptances refer to.
    """
    machines: Collection[str] | None = None
    for path, kind, name in references(plan):
        if kind == "device or machine":
            known: Collection[str] = plan.devices
            if name not in known:
                machines = machines or set(_machines(plan))
                if name in machines:
                    continue
        else:
            known = names_of(plan, kind, path, rules)
        if name in known or (kind == "zone" and not known):  # the plan leaves zones out
            continue
        names = ", ".join(list(known)[:8])
        instead = hint(name, known) or (f"; there are {names}" if known else "; the plan has none")
        yield Dangling(path, f"there is no {kind} {name!r}{instead}")


def _among(kind: str, path: PlanPath) -> PlanPath:
    """The mapping of a plan that has what is named; empty for a rule."""
    if kind in ("interface", "zone"):
        return (*path[:2], f"{kind}s")
    return {"class": ("classes",), "rule": ()}.get(kind, ("devices",))


def _walked(value: Any, pattern: PlanPath, path: PlanPath) -> Iterator[tuple[PlanPath, str]]:
    """The names where a pattern leads, each with its path."""
    if not pattern:
        if value is not None:
            yield path, value
        return
    step, *rest = pattern
    if step != _ANY:
        if (inner := _part(value, step)) is not None:
            yield from _walked(inner, tuple(rest), (*path, step))
    elif isinstance(value, Mapping):
        for key, inner in value.items():
            yield from _walked(inner if rest else key, tuple(rest), (*path, key))
    else:
        for position, inner in enumerate(value):
            yield from _walked(inner, tuple(rest), (*path, position))


def _part(value: Any, step: str | int) -> Any:
    """A part of a plan's part; None if it has none of that name."""
    return value.get(step) if isinstance(value, Mapping) else getattr(value, str(step), None)


def _machines(plan: Plan) -> Iterator[str]:
    """The names of all static hosts and bound clients."""
    for network in plan.networks.values():
        yield from (host.name for host in network.static)
        yield from (client.name for client in network.bindings)
    yield from plan.bulk_static.name
    yield from plan.bulk_bindings.name
