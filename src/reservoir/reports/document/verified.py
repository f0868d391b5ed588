"""The part of a document on what real servers answered when they were asked."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from reservoir.reports import verification
from reservoir.reports.document.blocks import Block, Paragraph, Run, Subsection, Table, text
from reservoir.reports.outputs.verify import Output


@dataclass(frozen=True)
class VerifiedBefore:
    """What real servers answered when they were asked."""

    found: Output
    file: str
    is_same: bool
    """Whether the plan is still as it was then."""

    @property
    def summary(self) -> str:
        """How many networks were as planned."""
        found = self.found
        told = verification.summary(
            found["summary"], has_taken=found["taken"], is_partial=bool(found["not_asked"])
        )
        return told if self.is_same else f"{told} The plan has changed since."

    @property
    def meaning(self) -> str:
        """``error`` where the network differs, ``warning`` where the plan has changed since."""
        if self.found["summary"]["failed"]:
            return "error"
        return "" if self.is_same else "warning"


def verified(every: Sequence[VerifiedBefore]) -> Iterator[Subsection]:
    """What was asked where, and what differed."""
    for each in every:
        yield Subsection(f"Asked from {each.found['on']}, {each.found['at']}", list(_blocks(each)))


def _blocks(each: VerifiedBefore) -> Iterator[Block]:
    found = each.found
    rows, meanings = [], []
    for network in found["networks"]:
        cells = verification.rows(network)
        rows += [(network["network"], *row[1:]) for row in cells]  # each row is read by itself
        meanings += ["", "error" if network["seen"]["failures"] else ""]
    heads = [heading[:1].upper() + heading[1:] for heading in verification.HEADINGS]
    caption = "What real servers offered, beside what was planned"
    yield Table(caption, heads, rows, meanings, numbers=verification.NUMBERS)
    for network in found["networks"]:
        name = Run(network["network"], "strong")
        for server in network["servers"]:
            yield Paragraph([name, Run(f": {verification.answered_by(server)}")])
        if found["taken"]:
            yield Paragraph([name, Run(f": {verification.used(network)}")])
        for failure in network["seen"]["failures"]:
            yield Paragraph([name, Run(f": {failure['reason']}", "error")])
        for failure in network["seen"]["accepted"]:
            yield Paragraph([name, Run(f": accepted: {failure['reason']}")])
    for left in found["left_out"]:
        yield text(f"{left['network']} was not asked: {left['because']}.")
    for client in found["not_asked"]:
        yield text(f"{client['network']}, {client['client']} was not asked: {client['because']}.")
    yield text(each.summary, "strong" if not each.meaning else each.meaning)
