"""The address space of a plan in the terminal: told apart by characters, with or without colour."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from typing import TYPE_CHECKING, cast

from reservoir.core.space import KINDS, NetworkSpace, Space
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, Span
from reservoir.core.wording import counted, listed
from reservoir.reports.frame import as_text, frame
from reservoir.reports.theme import columns, styled

if TYPE_CHECKING:
    from reservoir.reports.outputs.map import NetworkMapped, Output

MARKS = {
    "conflicting": "!",
    "bound": "b",
    "static": "s",
    "assignable": "=",
    "excluded": "x",
    "free": ".",
}
"""What a kind of address looks like."""

CELL = ("conflicting", "bound", "static", "excluded", "assignable", "free")
"""What a cell of a bar shows: the first of these that any of its addresses is."""

_MEANINGS = {"conflicting": "error", "bound": "added", "static": "warning", "assignable": "place",
             "excluded": "advice", "free": "aside"}  # fmt: skip

WIDEST_BAR, NARROWEST_BAR = 64, 12

CONFLICTS_SHOWN = 3

SIDE_COLUMNS = 118
"""Characters of a line from which on each kind of address is counted in a column of its own."""

COUNTED = ("assignable", "free")
"""The kinds that are counted where there is less room."""


def lines(
    space: Space, within: Sequence[Prefix], only: Collection[str] | None, width: int
) -> Iterator[str]:
    """The networks block by block, what is free between them, and what the marks mean.

    Args:
        space: The address space.
        within: The blocks to show; those around each subnet if empty.
        only: The networks to show; all if None, with what lies between them.
        width: Columns of the output.
    """
    shown = [one for one in space.networks if only is None or one.name in only]
    blocks = list(within) or space.blocks
    for block in blocks:
        inside = [one for one in shown if block.span.holds(one.subnet.span.first)]
        if inside or within:
            yield from _block(space, block, inside, width, gaps=only is None)
            yield ""
    left = [one for one in shown if not any(b.span.holds(one.subnet.span.first) for b in blocks)]
    if left:
        yield f"Outside of these blocks: {listed(one.name for one in left)}."
        yield ""
    yield "  ".join(f"{styled(MARKS[kind], _MEANINGS[kind])} {kind}" for kind in reversed(KINDS))


def _block(
    space: Space, block: Prefix, inside: Sequence[NetworkSpace], width: int, *, gaps: bool
) -> Iterator[str]:
    free = len(space.used.complement_within(block.span))
    share = f"{free:,} of {counted(block.span.size, 'address')} unused"
    yield styled(f"{block}", "heading") + f"  {counted(len(inside), 'network')}, {share}"
    kinds = KINDS if width >= SIDE_COLUMNS else COUNTED
    heads, rows = ("", "subnet", "network", "vlan", *kinds), [_row(one, kinds) for one in inside]
    if not rows:
        return
    table = columns([heads, *rows], left=(0, 1, 2))
    bar = max(NARROWEST_BAR, min(WIDEST_BAR, width - max(map(len, table)) - 4))
    yield styled(table[0], "name")
    end = block.span.first
    for one, line in zip(inside, table[1:], strict=True):
        span = one.subnet.span
        if gaps:
            yield from _gap(space, Span(end, span.first - 1))
        end = max(end, span.last + 1)
        conflicts = one.kinds["conflicting"]
        pad = " " * (max(map(len, table)) - len(line))
        yield (styled(line, "error") if conflicts else line) + f"{pad}  [{_bar(one, bar)}]"
        if conflicts:
            yield "     " + styled(f"claimed twice: {_some(conflicts)}", "error")
    if gaps:
        yield from _gap(space, Span(end, block.span.last))


def _row(one: NetworkSpace, kinds: Sequence[str]) -> tuple[str, ...]:
    counts = (len(one.kinds[kind]) for kind in kinds)
    vrf = f" ({one.network.vrf})" if one.network.vrf else ""
    return (
        "!" if one.kinds["conflicting"] else " ",
        str(one.subnet),
        one.name + vrf,
        str(one.network.vlan or "-"),
        *(f"{count:,}" if count else "-" for count in counts),
    )


def _gap(space: Space, span: Span) -> Iterator[str]:
    """A line for what lies between two networks, if anything does."""
    if span.first > span.last:
        return
    used = space.used.clipped(span)
    what = "unused" if not used else f"no network; in use: {_some(used)}"
    yield styled(f"   {span}  {what}", "aside")


def _some(addresses: AddressSet) -> str:
    """The first few stretches of a set, and how many more there are."""
    spans = list(addresses.spans())
    shown = [str(span) for span in spans[:CONFLICTS_SHOWN]]
    more = len(spans) - len(shown)
    return ", ".join(shown) + (f" and {more:,} more" if more else "")


def _bar(one: NetworkSpace, width: int) -> str:
    """The subnet in cells of equal size; each run of one mark is styled as a whole."""
    span = one.subnet.span
    cells = min(width, span.size)
    marks = []
    for cell in range(cells):
        part = Span(span.first + span.size * cell // cells,
                    span.first + span.size * (cell + 1) // cells - 1)  # fmt: skip
        marks.append(next((kind for kind in CELL if one.kinds[kind].meets(part)), "free"))
    runs: list[tuple[str, int]] = []
    for mark in marks:
        if runs and runs[-1][0] == mark:
            runs[-1] = (mark, runs[-1][1] + 1)
        else:
            runs.append((mark, 1))
    return "".join(styled(MARKS[kind] * count, _MEANINGS[kind]) for kind, count in runs)


def as_json(
    space: Space,
    inputs: Sequence[str],
    within: Sequence[Prefix],
    only: Collection[str] | None,
    free: Sequence[Prefix] | None,
    vlans: Sequence[tuple[int, int]] | None,
) -> str:
    """One JSON object: the blocks, each network's addresses by what they are for, what is free."""
    shown = [one for one in space.networks if only is None or one.name in only]
    output: Output = {
        **frame("map", inputs),
        "blocks": list(map(str, within or space.blocks)),
        "networks": [_network(one) for one in shown],
        "free": None if free is None else list(map(str, free)),
        "free_vlans": None if vlans is None else [list(pair) for pair in vlans],
        "summary": {
            "networks": len(shown),
            "conflicting": sum(len(one.kinds["conflicting"]) for one in shown),
        },
    }
    return as_text(output)


def _network(one: NetworkSpace) -> NetworkMapped:
    mapped = {
        "network": one.name,
        "subnet": str(one.subnet),
        "vrf": one.network.vrf,
        "vlan": one.network.vlan,
        **{kind: [str(span) for span in one.kinds[kind].spans()] for kind in KINDS},
        "counts": {kind: len(one.kinds[kind]) for kind in KINDS},
    }
    return cast("NetworkMapped", mapped)  # its kinds are the fields
