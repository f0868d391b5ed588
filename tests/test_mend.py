"""``reservoir mend``: edits in place, nothing else touched."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import reservoir
from conftest import Run

Put = Callable[[str, str], Path]

HURRIED = """\
reservoir: 1   # our plan
defaults: {dns: [10.84.0.53]}
devices:
  pier:
    dialect: larkspur
    interfaces:
      deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}
      uplink: {address: 10.84.0.2/24}
  depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
networks:
  crew:    # the crew's own
    subnet:  10.84.30.0/24
    gateway: "10.48.30.1"     # typed in a hurry
    ranges:
      # the low ones are ours
      - 10.84.30.20-10.84.30.60
      - 10.84.30.50-10.84.30.255   # to the end
    static:
      - {name: plotter, address: 10.84.30.25}

  shop:
    subnet: 10.84.31.0/24
    gateway: none
    ranges: [ 10.84.31.20 - 10.84.31.99 ]
"""

MENDED = """\
reservoir: 1   # our plan
defaults: {dns: [10.84.0.53]}
devices:
  pier:
    dialect: larkspur
    interfaces:
      deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}
      uplink: {address: 10.84.0.2/24}
  depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
networks:
  crew:    # the crew's own
    subnet:  10.84.30.0/24
    gateway: "10.84.30.1"     # typed in a hurry
    ranges:
      # the low ones are ours
      - 10.84.30.20-10.84.30.60
      - 10.84.30.50-10.84.30.255   # to the end
    static:
      - {name: plotter, address: 10.84.30.25}
    served_by: depot

  shop:
    subnet: 10.84.31.0/24
    gateway: none
    ranges: [ 10.84.31.20 - 10.84.31.99 ]
"""


def test_comments_and_layout_stay(run: Run, put: Put) -> None:
    """Only what must have been meant is changed; without --in-place it is only shown.

    Not a range: its end may be wrong, or what is in it.
    """
    file = put("plan.yaml", HURRIED)
    shown = run("mend", "plan.yaml")
    assert shown.code == 0
    assert file.read_text() == HURRIED
    assert '-    gateway: "10.48.30.1"     # typed in a hurry' in shown.out
    assert '+    gateway: "10.84.30.1"     # typed in a hurry' in shown.out
    assert "2 findings can be fixed" in shown.err
    assert run("mend", "plan.yaml", "--in-place").code == 0
    assert file.read_text() == MENDED
    left = run("check", "plan.yaml").out
    assert left.count("error    ") == 4
    assert "Nothing to mend" in run("mend", "plan.yaml").err


def test_files_that_a_plan_includes_are_mended_too(run: Run, put: Put) -> None:
    """Each edit goes where the network stands."""
    put("plan.yaml", "include: [crew.yaml]\ndefaults: {dns: [10.84.0.53]}\n")
    crew = "subnet: 10.84.30.0/24, gateway: none, demand: {devices: 40}"
    wrong = f"networks:\n  crew: {{{crew}, ranges: [10.48.30.9-10.48.30.99]}} # x\n"
    file = put("crew.yaml", wrong)
    assert run("mend", "plan.yaml", "--in-place").code == 0
    assert "ranges: [10.84.30.9-10.84.30.99]} # x" in file.read_text()


SLIPS = [
    ("10.84.24.0/24", "10.84.24.0/23"),
    ("10.84.24.100-10.84.24.199", "10.84.24.100-10.84.24.119"),
    ("10.84.31.64-10.84.31.254", "10.84.31.64-10.84.31.25"),
    ("10.84.52.50-10.84.52.200", "10.84.52.0-10.84.52.200"),
    ("10.85.41.10-10.85.41.250", "10.85.41.1-10.85.41.250"),
    ("{address: 10.84.0.10/24", "{address: 10.84.0.15/24"),
]
"""What the demo's plan says, and a slip of which nobody can tell what was meant."""


def test_what_may_have_been_meant_otherwise_is_left(run: Run, tmp_path: Path) -> None:
    """A mask, the end of a range, a server's address: the finding stays, and the plan too."""
    demo = Path(reservoir.__file__).parent / "demo" / "right"
    for file in demo.iterdir():
        (tmp_path / file.name).write_bytes(file.read_bytes())
    right = (demo / "ferry-line.yaml").read_text()
    for meant, typed in SLIPS:
        assert meant in right, meant
        (tmp_path / "ferry-line.yaml").write_text(right.replace(meant, typed, 1))
        assert run("check", "ferry-line.yaml", "--fail-on", "advice").code == 1, typed
        assert "Nothing to mend" in run("mend", "ferry-line.yaml").err, typed


def test_a_fix_is_taken_where_somebody_asks_for_it(run: Run, put: Put) -> None:
    """Though more could be meant; of the rule and at the path that were named, and nowhere else."""
    network = "{{subnet: 10.84.{0}.0/24, gateway: 10.84.{0}.1, dns: 9.9.9.9, "
    network += "ranges: [10.84.{0}.1-10.84.{0}.99], demand: {{devices: 20}}}}"
    ports = ", ".join(f"p{n}: {{address: 10.84.{n}.1/24}}" for n in (30, 31))
    plan = put(
        "plan.yaml",
        f"reservoir: 1\ndevices: {{r: {{dialect: larkspur, interfaces: {{{ports}}}}}}}\nnetworks:\n"
        f"  crew: {network.format(30)}\n  shop: {network.format(31)}\n",
    )
    assert "no finding says for certain" in run("mend", "plan.yaml").err
    fix = ("mend", "plan.yaml", "--fix", "gateway-in-pool", "--at", "networks.c*")
    shown = run(*fix)
    assert "--fix gateway-in-pool --at 'networks.c*' --in-place" in shown.err
    assert "1 finding fixed" in run(*fix, "--in-place").err
    assert "10.84.30.2-10.84.30.99" in plan.read_text()
    assert "10.84.31.1-10.84.31.99" in plan.read_text()
    assert "has no finding at networks.c* with one fix that holds" in run(*fix).err
    assert run("mend", "plan.yaml", "--fix", "gateway-in-pol").code == 2
