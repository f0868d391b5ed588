"""``reservoir mend``: edits in place, nothing else touched."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from conftest import Run

Put = Callable[[str, str], Path]

HURRIED = """\
reservoir: 1   # our plan
defaults: {dns: [10.84.0.53]}
devices:
  pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}
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
  pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}
networks:
  crew:    # the crew's own
    subnet:  10.84.30.0/24
    gateway: "10.84.30.1"     # typed in a hurry
    ranges:
      # the low ones are ours
      - 10.84.30.20-10.84.30.60
      - 10.84.30.61-10.84.30.254   # to the end
    static:
      - {name: plotter, address: 10.84.30.25}
    exclusions: [10.84.30.25]
    served_by: pier

  shop:
    subnet: 10.84.31.0/24
    gateway: none
    ranges: [ 10.84.31.20 - 10.84.31.99 ]
"""


def test_comments_and_layout_stay(run: Run, put: Put) -> None:
    """Only what a suggestion names changes; without --in-place it is only shown."""
    file = put("plan.yaml", HURRIED)
    shown = run("mend", "plan.yaml")
    assert shown.code == 0
    assert file.read_text() == HURRIED
    assert '-    gateway: "10.48.30.1"     # typed in a hurry' in shown.out
    assert '+    gateway: "10.84.30.1"     # typed in a hurry' in shown.out
    assert "5 findings can be fixed" in shown.err
    assert run("mend", "plan.yaml", "--in-place").code == 0
    assert file.read_text() == MENDED
    left = run("check", "plan.yaml").out
    assert left.count("error    ") == 1
    assert "network-unserved" in left
    assert "Nothing to mend" in run("mend", "plan.yaml").err


def test_a_cell_of_a_table_is_mended(run: Run, put: Put) -> None:
    """Quoted or not, whatever the line ends are; every other byte stays."""
    put(
        "plan.yaml",
        "defaults: {dns: [10.84.0.53]}\nnetworks:\n  crew: {subnet: 10.84.30.0/24, gateway: none}\n"
        "bindings_from: [b.csv]\n",
    )
    table = (
        "address,network,name,mac\r\n10.48.30.9,crew,a,00005e005301\r\n"
        '"10.84.3.10",crew,"b, c",00005e005302\r\n'
    )
    file = put("b.csv", "")
    file.write_bytes(table.encode())
    assert run("mend", "plan.yaml", "--in-place").code == 0
    right = table.replace("10.48.30.9", "10.84.30.9").replace("10.84.3.10", "10.84.30.10")
    assert file.read_bytes().decode() == right


def test_files_that_a_plan_includes_are_mended_too(run: Run, put: Put) -> None:
    """Each edit goes where the network stands."""
    put("plan.yaml", "include: [crew.yaml]\n")
    file = put(
        "crew.yaml", "networks:\n  crew: {subnet: 10.84.30.1/24, ranges: [10.84.30.9]} # x\n"
    )
    assert run("mend", "plan.yaml", "--in-place").code == 0
    assert "{subnet: 10.84.30.0/24, ranges: [10.84.30.9]} # x" in file.read_text()
