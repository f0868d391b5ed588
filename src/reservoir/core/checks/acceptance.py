"""Which findings an acceptance or a pattern of paths means."""

from __future__ import annotations

from fnmatch import fnmatchcase

from reservoir.core.findings import Finding
from reservoir.core.plan import Acceptance, format_path


def is_at(finding: Finding, pattern: str) -> bool:
    """Whether the finding stands at the pattern's path or below it, or is about a network there.

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
