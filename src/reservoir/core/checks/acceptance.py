"""Which findings an acceptance or a pattern of paths means."""

from __future__ import annotations

import re
from fnmatch import fnmatchcase

from reservoir.core.findings import Finding
from reservoir.core.plan.check_settings import Acceptance
from reservoir.core.plan.model import Plan, PlanFile, format_path


def is_at(finding: Finding, pattern: str) -> bool:
    """Whether the finding is at the pattern's path or below it, or is about a network there.

    So what is wrong in a table's row or at an interface is found under the network too.
    """
    networks = (finding.network, *finding.concerns)
    paths = [format_path(("networks", name)) for name in networks if name is not None]
    paths.append(format_path(finding.at))
    below = pattern.replace("[", "[[]")  # a list position is no set of characters
    forms = (below, below + ".*", below + "[[]*")
    return any(fnmatchcase(path, form) for path in paths for form in forms)


def accepts(acceptance: Acceptance, finding: Finding) -> bool:
    """Whether the acceptance means this finding, whatever its date."""
    return acceptance.rule == finding.rule and is_at(finding, acceptance.at)


_BEGINNING = re.compile(r'[^.\[]+(?:\.(?:"[^"]*"|[^.\[]+))?')


def places(plan: Plan) -> list[str]:
    """The paths that a pattern can begin with: the plan's sections, networks and devices."""
    named = (("networks", plan.networks), ("devices", plan.devices))
    inner = [format_path((section, name)) for section, names in named for name in names]
    return [*PlanFile.model_fields, *inner]


def names_a_place(pattern: str, plan: Plan) -> bool:
    """Whether the plan has what a pattern begins with: a network, a device or a section."""
    beginning = _BEGINNING.match(pattern)
    if beginning is None:
        return False
    section, dot, _ = beginning[0].partition(".")
    wanted = beginning[0] if dot and section in ("networks", "devices") else section
    return any(fnmatchcase(place, wanted.replace("[", "[[]")) for place in places(plan))
