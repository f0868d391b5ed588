"""A LAN as they are built today, in every dialect: who can do it does it, the others say why not.

Phones, access points, machines that start over the network, a pair and a split.
"""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from conftest import Run
from reservoir.dialects.sheet.library import Library

PLAN = Path(__file__).parent / "plans/north-pier.yaml"
"""Classes in deck, a pair in crew, ranges of each server's own in gate."""

LIBRARY = Library()
OFFERED = {
    "phones": "tftp_server_name phones.sable.example",
    "points": "vendor_information 01080a541e050a541e06",
    "bios": "boot server 10.84.30.6",
    "efi": "boot file boot/efi.img",
}
CLASSES = {*OFFERED}


def refused(dialect: str) -> set[str]:
    """The classes that a family can't serve as planned, and ``pair``, by what its sheet has."""
    sheet = LIBRARY.sheet(dialect)
    found = {"pair"} if sheet.trait("pair") == "none" else set()
    if sheet.trait("classes") != "in-pool":  # by its own pool one needs a range, which most lack
        return found | CLASSES
    if not sheet.stands_in("range", "class"):
        found |= {"phones"}
    if not sheet.mentions("class", "architecture") or not sheet.mentions("class", "next_server"):
        found |= {"bios", "efi"}
    return found


@pytest.mark.parametrize("dialect", LIBRARY.names)
def test_every_family_does_it_or_says_what_it_cannot(
    run: Run, tmp_path: Path, dialect: str
) -> None:
    """Each refusal is replayed; where there is none, devices and clients do as is planned."""
    (tmp_path / "plan.yaml").write_text(PLAN.read_text().replace("fulmar", dialect))
    checked = json.loads(run("check", "plan.yaml", "--prove", "--format", "json").out)
    findings = [f for f in checked["findings"] if f["severity"] == "error"]
    said = {
        f["witness"].get("member_of", "pair") for f in findings if f["rule"] == "not-expressible"
    }
    assert said == refused(dialect)
    assert all(f["proof"]["shown"] for f in findings), findings
    if findings:
        assert run("write", "plan.yaml", "-o", "made").code == 1
        return
    assert run("write", "plan.yaml", "-o", "made").code == 0
    files = sorted(str(path) for path in (tmp_path / "made").glob(f"*.{dialect}"))
    options = [word for file in files for word in ("--new", file)]
    assert "No difference in 3 networks" in run("compare", "plan.yaml", *options).out
    for subject in (["plan.yaml"], files):
        ended = run("rehearse", *subject, "--format", "json")
        lived = json.loads(ended.out)
        assert ended.code == 0
        assert all(net["served"] == net["clients"] for net in lived["networks"])
        (deck,) = (net for net in lived["networks"] if net["network"] == "deck")
        assert {kin["name"] for kin in deck["classes"] if kin["served"]} == CLASSES
    told = run("rehearse", "plan.yaml", "--trace", "deck").out
    for client, value in OFFERED.items():
        (conversation,) = told.split(f"of class {client}\n")[1:2]
        assert value in " ".join(conversation.partition("\n\n")[0].split())


def test_some_family_does_it_all() -> None:
    """And each other one lacks something."""
    assert [name for name in LIBRARY.names if not refused(name)] == ["fulmar"]
