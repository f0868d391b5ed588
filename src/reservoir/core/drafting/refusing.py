"""Answers that can't be, as far as that shows before the whole plan is checked."""

from __future__ import annotations

from reservoir.core.drafting.answers import Answers
from reservoir.core.drafting.drafting import Drafting
from reservoir.core.values.addresses import Span, format_address
from reservoir.core.wording import hint


def why_not(drafting: Drafting, answers: Answers) -> tuple[str, str] | None:
    """The answer that can't be, by its question, and why; None if all can be."""
    if drafting.is_known(answers.get("network", "")):
        return "network", f"there is a network {answers['network']} already"
    dialect, known = answers.get("dialect"), drafting.dialects
    if dialect is not None and dialect not in known:
        return "dialect", f"there is no dialect {dialect!r}{hint(dialect, known)}"
    subnet = answers.get("subnet")
    if subnet is None:
        return None
    gateway = answers.get("gateway")
    if gateway is not None and not subnet.span.holds(gateway):
        return "gateway", f"{format_address(gateway)} is not in {subnet.subnet}"
    for name, spans in (("range", answers.get("range", ())), ("keep", _spans_kept(answers))):
        for span in spans:
            if not (subnet.span.holds(span.first) and subnet.span.holds(span.last)):
                return name, f"{span} is not in {subnet.subnet}"
    return None


def _spans_kept(answers: Answers) -> list[Span]:
    kept = answers.get("keep")
    return kept.within(answers["subnet"].subnet) if kept is not None else []
