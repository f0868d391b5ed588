"""Names that one part of a plan uses for another: each must exist."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from reservoir.core.plan.model import Plan, PlanPath
from reservoir.core.wording import hint

_NAME, _EACH = "*", "[]"
"""Any name, a mapping's key; each item of a list, in a file perhaps without its position."""

_NAMING: tuple[tuple[str, ...], ...] = (
    ("interface", "devices", _NAME, "interfaces", _NAME, "parent"),
    ("interface", "devices", _NAME, "interfaces", _NAME, "members", _EACH),
    ("zone", "devices", _NAME, "interfaces", _NAME, "zone"),
    ("device", "networks", _NAME, "served_by", _EACH, "device"),
    ("device", "networks", _NAME, "served_by", _EACH, "pair", _EACH),
    ("class", "networks", _NAME, "by_class", _NAME),
    ("class", "networks", _NAME, "admits", _EACH),
    ("device or machine", "networks", _NAME, "static", _EACH, "owner"),
    ("rule", "checks", "severity", _NAME),
    ("rule", "accept", _EACH, "rule"),
)
"""What is named, and where; where the path ends at a mapping, its keys are the names."""


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
    for kind, *pattern in _NAMING:
        for path, name in _walked(plan, pattern, ()):
            yield Reference(path, kind, name)


def kind_named_at(path: PlanPath) -> str | None:
    """What a name at a path of a file names, were it that nothing stands there yet.

    A list of one may stand without its dash, a server by its name alone.
    """
    return next((kind for kind, *pattern in _NAMING if _fits(pattern, path)), None)


def _fits(pattern: Sequence[str], path: PlanPath) -> bool:
    """Whether a pattern leads to a path, short forms allowed."""
    if not pattern:
        return not path
    step, *rest = pattern
    if path:
        is_here = isinstance(path[0], int) if step == _EACH else step in (_NAME, path[0])
        if is_here and _fits(rest, path[1:]):
            return True
    return step in (_EACH, "device") and _fits(rest, path)


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


def _walked(value: Any, pattern: Sequence[str], path: PlanPath) -> Iterator[tuple[PlanPath, str]]:
    """The names where a pattern leads, each with its path."""
    if not pattern:
        if value is not None:
            yield path, value
        return
    step, *rest = pattern
    if step == _NAME:
        for key, inner in value.items():
            yield from _walked(inner if rest else key, rest, (*path, key))
    elif step == _EACH:
        for position, inner in enumerate(value):
            yield from _walked(inner, rest, (*path, position))
    elif (inner := _part(value, step)) is not None:
        yield from _walked(inner, rest, (*path, step))


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
