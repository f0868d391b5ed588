"""Names of networks, devices and machines: as devices accept them, and by convention."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from reservoir.core.checks.rule import Obstructed, Rule, Site
from reservoir.core.findings import Finding, Severity
from reservoir.core.plan.model import PlanPath
from reservoir.core.values.name_patterns import NamePattern


class NameUnfit(Obstructed):
    """A device doesn't accept a name as it is in the plan.

    Why: `reservoir write` changes it to a name that the device accepts, so plan and device use
    different names.

    Remedy: Choose a unique name within the device's length and characters.
    """

    severity = Severity.ADVICE
    example = """
          devices: {pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              served_by: pier
              ranges: [10.84.30.20-10.84.30.99]
        -     bindings: [{name: chart room plotter, mac: 00:00:5e:00:53:01, address: 10.84.30.9}]
        +     bindings: [{name: chart-room-plotter, mac: 00:00:5e:00:53:01, address: 10.84.30.9}]
    """


class NamingConvention(Rule):
    """A name doesn't follow the plan's naming convention.

    Why: People find things by their names; a name outside the convention doesn't help.

    Remedy: Rename it, or widen the pattern under `checks: names`.
    """

    severity = Severity.ADVICE
    example = """
          checks: {names: {networks: "[a-z]+-(pier|depot)"}}
          networks:
        -   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20]}
        +   crew-pier: {subnet: 10.84.30.0/24, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        agreed, plan, pools = site.plan.checks.names, site.plan, site.pools
        for kind, pattern in (("devices", agreed.devices), ("networks", agreed.networks)):
            named = ((name, (kind, name), ()) for name in getattr(plan, kind))
            yield from self._against(pattern, named)
        for table, pattern in (
            (pools.bindings, agreed.bindings),
            (pools.static, agreed.static),
        ):
            if pattern is not None:
                rows = (
                    (name, table.path(row), (pools.names[table.network[row]],))
                    for row, name in enumerate(table.name)
                )
                yield from self._against(pattern, rows)

    def _against(
        self,
        pattern: NamePattern | None,
        named: Iterable[tuple[str, PlanPath, tuple[str, ...]]],
    ) -> Iterator[Finding]:
        if pattern is None:
            return
        for name, path, networks in named:
            if not pattern.matches(name):
                what = repr(name) if name else "an empty name"
                message = f"{what} doesn't match the convention {pattern.pattern}"
                yield self.finding(message, path, concerns=networks)
