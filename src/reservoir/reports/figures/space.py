"""The address space as a figure: a strip for each block, a bar for each network."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from reservoir.core.space import KINDS, NetworkSpace, Space
from reservoir.core.values.addresses import Prefix
from reservoir.reports.figures.style import FAINT, INK, LOOKS, RC, SIZE, canvas

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

ROWS = 34
"""Networks in a column of a figure of the usual height."""

LEAST = 0.004
"""The least share of a bar's width that is still seen; what is narrower is drawn so wide."""

STRIP = 0.34
"""Inches for the strip of a block."""


def figure(space: Space, title: str, within: Sequence[Prefix], only: Sequence[str]) -> Figure:
    """Draw the networks in the order of their addresses, each to its own scale."""
    import matplotlib as mpl  # late: takes a second

    shown = [one for one in space.networks if not only or one.name in only]
    blocks = [
        block
        for block in within or space.blocks
        if within or any(block.span.holds(one.subnet.span.first) for one in shown)
    ]
    count = 1 if len(shown) <= ROWS // 2 else 2
    rows = math.ceil(len(shown) / count)
    strips = STRIP * len(blocks) + 0.5
    with mpl.rc_context(RC):
        found = canvas(max(SIZE[1], strips + 1.2 + rows * (SIZE[1] - 2.4) / ROWS))
        found.suptitle(title, x=0.01, ha="left", fontweight="bold", fontsize=13)
        heights = (strips, found.get_figheight() - strips)
        top, middle = found.subfigures(2, 1, squeeze=False, height_ratios=heights)[:, 0]
        _strips(top.subplots(), space, blocks, shown)
        panels = middle.subplots(1, count, squeeze=False)[0]
        for number, axes in enumerate(panels):
            _bars(axes, shown[number * rows : (number + 1) * rows], rows)
        middle.legend(
            handles=_legend(), loc="outside lower center", ncols=len(KINDS), frameon=False
        )
        return found


def _strips(
    axes: Axes, space: Space, blocks: Sequence[Prefix], shown: Sequence[NetworkSpace]
) -> None:
    """Where in each block the networks are, in proportion."""
    for row, block in enumerate(blocks):
        first, size = block.span.first, block.span.size
        axes.broken_barh([(0, 1)], (row - 0.3, 0.6), facecolor="none", edgecolor=FAINT, lw=0.8)
        used = [
            ((span.first - first) / size, max(span.size / size, LEAST / 2))
            for span in space.used.clipped(block.span).spans()
        ]
        axes.broken_barh(used, (row - 0.3, 0.6), facecolor=LOOKS["excluded"].colour, lw=0)
        for one in shown:
            if block.span.holds(one.subnet.span.first):
                at = (one.subnet.span.first - first) / size
                wide = max(one.subnet.span.size / size, LEAST / 2)
                kind = "conflicting" if one.kinds["conflicting"] else "assignable"
                axes.broken_barh([(at, wide)], (row - 0.3, 0.6), facecolor=LOOKS[kind].colour,
                                 edgecolor=INK, lw=0.5)  # fmt: skip
    free = [len(space.used.complement_within(block.span)) for block in blocks]
    labels = [f"{block}  " for block in blocks]
    axes.set_yticks(range(len(blocks)), labels, fontweight="bold")
    for row, unused in enumerate(free):
        axes.text(1.008, row, f"{unused / blocks[row].span.size:.0%} unused", va="center")
    axes.set_xlim(0, 1.09)
    axes.set_ylim(len(blocks) - 0.5, -0.5)
    _bare(axes)


def _bars(axes: Axes, shown: Sequence[NetworkSpace], rows: int) -> None:
    """A bar for each network: its subnet from the first address to the last."""
    size = 11.0 if rows <= ROWS else 9.0
    for row, one in enumerate(shown):
        span = one.subnet.span
        axes.broken_barh([(0, 1)], (row - 0.36, 0.72), facecolor="white", edgecolor=FAINT, lw=0.8)
        for kind in ("assignable", "excluded", "static", "bound", "conflicting"):
            look = LOOKS[kind]
            parts = [
                ((part.first - span.first) / span.size, max(part.size / span.size, LEAST))
                for part in one.kinds[kind].spans()
            ]
            axes.broken_barh(parts, (row - 0.36, 0.72), facecolor=look.colour, hatch=look.hatch,
                             edgecolor=look.line, lw=0.3)  # fmt: skip
        note = f"{len(one.kinds['assignable']):,}"
        conflicts = len(one.kinds["conflicting"])
        axes.text(1.01, row, note + ("  !" if conflicts else ""), va="center", fontsize=size - 1,
                  fontweight="bold" if conflicts else None)  # fmt: skip
    names = [("! " if one.kinds["conflicting"] else "") + _name(one) for one in shown]
    axes.set_yticks(range(len(shown)), names, fontsize=size)
    axes.set_xlim(0, 1.09)
    axes.set_ylim(rows - 0.4, -0.6)
    _bare(axes)


def _name(one: NetworkSpace) -> str:
    name = one.name if len(one.name) <= 24 else f"{one.name[:23]}…"
    return f"{name}  {one.subnet}".replace("$", r"\$")


def _bare(axes: Axes) -> None:
    axes.set_xticks([])
    axes.tick_params(length=0)
    for side in axes.spines.values():
        side.set_visible(False)


def _legend() -> list[object]:
    from matplotlib.patches import Patch  # late: see above

    return [
        Patch(facecolor=LOOKS[kind].colour, hatch=LOOKS[kind].hatch, edgecolor=LOOKS[kind].line,
              lw=0.5,
              label="assignable (how many: at the right)" if kind == "assignable" else kind)
        for kind in reversed(KINDS)
    ]  # fmt: skip
