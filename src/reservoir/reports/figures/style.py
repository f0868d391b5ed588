"""How figures look: one table of colours and patterns, told apart in grey and by everybody.

Colours differ in lightness too, and every area has a pattern of its own, so that a figure on a
black-and-white printer, or seen by colour-blind eyes, says the same.
"""

from __future__ import annotations

import io
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, BinaryIO, NamedTuple

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

SIZE = (12.8, 8.0)
"""Inches; at 100 dots an inch 1280 x 800."""

DPI = 100

INK, PAPER, FAINT = "#1f2a33", "#ffffff", "#9aa5ad"


class Look(NamedTuple):
    """The look of an area."""

    colour: str
    hatch: str = ""
    """Matplotlib's pattern."""
    line: str = INK
    """The colour of its pattern and its edge."""


LOOKS: Mapping[str, Look] = {
    "assignable": Look("#8ecae0"),
    "bound": Look("#5f94c9", "////"),
    "static": Look("#f2c14e", "..."),
    "excluded": Look("#d7dce0", "xx"),
    "free": Look("#ffffff"),
    "conflicting": Look("#a3123a", "\\\\\\", PAPER),
    "taken": Look("#8ecae0"),
    "band": Look("#4f9fc0", "..."),
    "refused": Look("#a3123a", "///", PAPER),
}

RC: Any = {
    "font.family": "DejaVu Sans",
    "font.size": 11,
    "text.color": INK,
    "axes.labelcolor": INK,
    "axes.edgecolor": FAINT,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "xtick.color": INK,
    "ytick.color": INK,
    "hatch.linewidth": 0.6,
    "hatch.color": INK,
    "svg.hashsalt": "reservoir",  # the same bytes for the same input
    "svg.fonttype": "path",
    "text.parse_math": False,  # a name may have a dollar sign
}


def canvas(height: float = SIZE[1]) -> Figure:
    """An empty figure of the usual width; ``height`` in inches."""
    from matplotlib.figure import Figure  # late: takes a second

    return Figure(figsize=(SIZE[0], height), dpi=DPI, facecolor=PAPER, layout="constrained")


def drawn(figure: Figure, out: BinaryIO, form: str) -> None:
    """Write a figure: the same bytes for the same figure."""
    import matplotlib as mpl  # late: see above

    stamps = {"png": {"Software": None}, "svg": {"Date": None}, "pdf": {"CreationDate": None}}
    with mpl.rc_context(RC):
        figure.savefig(out, format=form, metadata=stamps[form])


def as_svg(figure: Figure) -> bytes:
    """A figure as SVG."""
    out = io.BytesIO()
    drawn(figure, out, "svg")
    return out.getvalue()


def titled(axes: Axes, title: str, below: str = "") -> None:
    """Give axes a title at their left, and a line below it."""
    axes.set_title(title, loc="left", fontweight="bold", fontsize=13, pad=22 if below else 8)
    if below:
        axes.text(0, 1.015, below, transform=axes.transAxes, fontsize=10.5, va="bottom")
