"""What figures show is what the commands say: bars, curves and lines, number by number."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from matplotlib.figure import Figure
from matplotlib.text import Text

import reservoir
from reservoir.core.space import KINDS
from reservoir.reports.figures import sizing as day_figure
from reservoir.reports.figures import space as map_figure
from reservoir.reports.figures.style import LOOKS, as_svg
from reservoir.reports.sizing import lease_times

Put = Callable[[str, str], Path]

PLAN = """
devices: {pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}}
networks:
  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, ranges: [10.84.30.64-10.84.30.191],
         exclusions: [10.84.30.96-10.84.30.127], dns: [],
         bindings: [{mac: 00:00:5e:00:53:01, address: 10.84.30.200}]}
  cabin: {subnet: 10.84.30.128/25, dns: [], ranges: [10.84.30.200-10.84.30.220]}
  wifi:
    subnet: 10.84.40.0/24
    ranges: [10.84.40.10-10.84.40.109]
    dns: []
    lease: 1h
    demand: {devices: 10, walk_in: {rate: 60/h, between: "08:00-20:00", stay: 25m},
             arrivals: [{at: "12:00", devices: 90, over: 20m, stay: 1h}]}
"""


@pytest.fixture
def plan(put: Put) -> reservoir.OpenedPlan:
    return reservoir.load(put("plan.yaml", PLAN))


def all_axes(figure: Figure) -> list[Any]:
    """The axes of a figure and of the figures inside it."""
    return list(figure.axes)


def bars_of(axes: Any, row: int) -> dict[tuple[float, ...], list[tuple[float, float]]]:
    """The stretches of a row by their colour: from and to, in shares of the width."""
    found: dict[tuple[float, ...], list[tuple[float, float]]] = {}
    for collection in axes.collections:
        colour = tuple(np.round(np.asarray(collection.get_facecolor())[0], 3).tolist())
        for path in collection.get_paths():
            (left, low), (right, high) = path.vertices.min(axis=0), path.vertices.max(axis=0)
            if low < row < high:
                found.setdefault(colour, []).append((float(left), float(right)))
    return found


def colour_of(kind: str) -> tuple[float, ...]:
    from matplotlib.colors import to_rgba

    return tuple(np.round(to_rgba(LOOKS[kind].colour), 3).tolist())


def test_each_bar_of_the_map_is_as_long_as_what_it_shows(plan: reservoir.OpenedPlan) -> None:
    """Where each kind of address begins and ends in the subnet, in proportion."""
    space = reservoir.space(plan)
    figure = map_figure.figure(space, "Quay", (), ())
    strips, panel = all_axes(figure)
    names = [label.get_text() for label in panel.get_yticklabels()]
    assert names == ["! crew  10.84.30.0/24", "! cabin  10.84.30.128/25", "wifi  10.84.40.0/24"]
    for row, one in enumerate(space.networks):
        bars = bars_of(panel, row)
        first, size = one.subnet.span.first, one.subnet.span.size
        for kind in KINDS:
            if kind == "free":
                continue
            expected = [
                ((span.first - first) / size, max(span.size / size, map_figure.LEAST))
                for span in one.kinds[kind].spans()
            ]
            shown = sorted(bars.get(colour_of(kind), []))
            assert [left for left, _ in shown] == pytest.approx([at for at, _ in expected])
            assert [b - a for a, b in shown] == pytest.approx([wide for _, wide in expected])
    texts = [text.get_text() for text in panel.texts]
    assert texts == [
        f"{len(one.kinds['assignable']):,}" + ("  !" if one.kinds["conflicting"] else "")
        for one in space.networks
    ]
    (share,) = (text.get_text() for text in strips.texts)
    assert share == f"{len(space.used.complement_within(space.blocks[0].span)) / 65_536:.0%} unused"


def test_kinds_are_told_apart_without_colour() -> None:
    """No two that may touch have the same pattern and nearly the same grey."""
    looks = [LOOKS[kind] for kind in KINDS if kind != "free"]
    for number, one in enumerate(looks):
        for other in looks[number + 1 :]:
            assert one.hatch != other.hatch or abs(grey(one.colour) - grey(other.colour)) > 0.2


def grey(colour: str) -> float:
    """How light a colour is in a black-and-white print, 0 to 1 (ITU-R BT.601)."""
    from matplotlib.colors import to_rgb

    return float(np.dot(to_rgb(colour), [0.299, 0.587, 0.114]))


def test_the_day_is_the_one_that_was_worked_out(plan: reservoir.OpenedPlan) -> None:
    """The curve, the capacity line, the moments of refusal, and each lease time's point."""
    (wifi,) = reservoir.size(plan, ["wifi"]).networks
    figure = day_figure.figure(wifi.size, "wifi", has_pool=True)
    upper, lower = all_axes(figure)
    occupancy = wifi.size.occupancy()
    curve = max(upper.lines, key=lambda line: len(line.get_xdata()))
    assert np.asarray(curve.get_ydata())[:-1] == pytest.approx(occupancy.mean)
    assert np.asarray(curve.get_xdata())[:-1] * 3_600 == pytest.approx(occupancy.moments)
    for axes in (upper, lower):
        levels = [line for line in axes.lines if line.get_linestyle() == "--"]
        assert [float(np.asarray(line.get_ydata())[0]) for line in levels] == [wifi.capacity]
    assert "clients are refused" in labels(upper)
    times = sorted(lease_times(wifi.size))
    needed = next(line for line in lower.lines if line.get_label() == "addresses needed")
    assert np.asarray(needed.get_ydata()).tolist() == [count for _, count, _ in times]
    assert next(t.get_text() for t in lower.get_xticklabels()) == "10m"
    (now,) = (line for line in lower.lines if line.get_label() == "now")
    assert np.asarray(now.get_ydata()).tolist() == [wifi.needed]
    told = " ".join(text.get_text() for text in upper.findobj(Text))
    assert f"peak {wifi.size.peak} addresses" in told


def labels(axes: Any) -> list[str]:
    legend = axes.get_legend()
    return [text.get_text() for text in legend.get_texts()] if legend else []


def test_a_head_count_has_a_day_without_lease_times() -> None:
    """Nobody comes and goes: one picture, level all day, and no band."""
    size = reservoir.size_demand({"devices": "40"}, 3_600, 60)
    (axes,) = all_axes(day_figure.figure(size, "desk", has_pool=True))
    curve = next(line for line in axes.lines if line.get_linestyle() == "-")
    assert set(np.asarray(curve.get_ydata()).tolist()) == {40}
    assert labels(axes) == ["taken on average"]


@pytest.mark.parametrize("count", [1, 17, 18, 40, 60, 150])
def test_every_network_has_its_row_and_fits(put: Put, count: int) -> None:
    """In one column or two; names don't overlap, and many networks make a taller figure."""
    networks = [
        f"  network-{i}: {{subnet: 10.{84 + i // 200}.{i % 200}.0/24, "
        f"ranges: [10.{84 + i // 200}.{i % 200}.20-99]}}"
        for i in range(count)
    ]
    plan = reservoir.load(put("plan.yaml", "\n".join(["networks:", *networks]) + "\n"))
    figure = map_figure.figure(reservoir.space(plan), "Many", (), ())
    _, *panels = all_axes(figure)
    shown = [label.get_text().split()[0] for p in panels for label in p.get_yticklabels()]
    assert shown == [f"network-{i}" for i in range(count)]
    assert len(panels) == (1 if count <= 17 else 2)
    as_svg(figure)  # lays it out
    for panel in panels:
        boxes = [label.get_window_extent() for label in panel.get_yticklabels()]
        for above, below in pairwise(boxes):
            assert above.y0 >= below.y1 - 1
            assert below.x0 >= 0
    assert (figure.get_figheight() > 8) == (count > 68)
