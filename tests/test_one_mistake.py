"""One mistake in a sound plan of ordinary size is one finding; what follows from it is folded."""

from __future__ import annotations

import re
import shutil
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest

import reservoir
from conftest import Run, program
from reservoir.core.findings import Severity
from reservoir.core.subject import Subject
from reservoir.dialects.notations.files import FILE_MARK
from reservoir.dialects.sheet.library import Library

Put = Callable[[str, str], Path]

PLANS = Path(__file__).parent / "plans"
RIGHT = Path(reservoir.__file__).parent / "demo/right"
"""The ferry line's sound plan."""

SOUND = (PLANS / "two-routers.yaml").read_text()


def test_a_sound_plan_has_nothing_to_put_right(run: Run, put: Put) -> None:
    """Shared gateways, two servers, a VRF, addresses set by hand: not even advice."""
    put("plan.yaml", SOUND)
    checked = run("check", "plan.yaml", "--fail-on", "advice")
    assert checked.code == 0, checked.out
    assert checked.out.startswith("No findings in 4 networks on 4 devices")


MENDABLE = [
    (
        "servers: {address: 10.84.0.2/24",
        "servers: {address: 10.84.0.2/25",
        "interface-mask-differs",
    ),
    ("staff: {address: 10.84.50.2/23", "staff: {address: 10.84.50.2/22", "interface-mask-differs"),
    ("voice: {address: 10.84.52.2/24", "voice: {address: 10.84.25.2/24", "relay-misplaced"),
    ("[10.84.0.10, 10.84.0.11]", "[10.84.0.110, 10.84.0.11]", "relay-to-nobody"),
    ("lan: {address: 10.84.0.10/24}", "lan: {address: 10.84.0.20/24}", "relay-to-nobody"),
    ("subnet: 10.84.52.0/24", "subnet: 10.84.51.0/24", "subnet-differs"),
    ("subnet: 10.84.52.0/24", "subnet: 10.48.52.0/24", "subnet-differs"),
    ("subnet: 10.84.52.0/24", "subnet: 10.84.52.0/25", "subnet-differs"),
    ("subnet: 172.20.0.0/22", "subnet: 172.20.0.0/23", "subnet-differs"),
    ("subnet: 172.20.0.0/22", "subnet: 172.20.0.1/22", "subnet-has-host-bits"),
    ("gateway: 10.84.52.1", "gateway: 10.84.25.1", "gateway-outside-subnet"),
    (
        "name: resolver-1, address: 10.84.0.53",
        "name: resolver-1, address: 10.48.0.53",
        "static-outside-subnet",
    ),
    ("lan: {address: 10.84.0.10/24}", "lan: {address: 10.84.0.10/32}", "interface-mask-differs"),
    ("subnet: 10.84.52.0/24", "subnet: 10.84.52.0/32", "subnet-differs"),
    ("subnet: 10.84.0.0/24", "subnet: 10.84.0.0/16", "subnet-differs"),
    ("subnet: 10.84.50.0/23", "subnet: 10.84.50.0/22", "subnet-differs"),
    ("via: 10.84.255.1}", "via: 10.48.255.1}", "next-hop-unreachable"),
    ("0.0.0.0/0, via: 10.84.255.1}", "0.0.0.9/0, via: 10.84.255.1}", "route-has-host-bits"),
    ("voice: {address: 10.84.52.2/24", "voice: {address: 10.84.51.2/24", "relay-misplaced"),
    ("[10.84.52.20-10.84.52.129]", "[10.84.25.20-10.84.25.129]", "range-outside-subnet"),
    ("[10.84.52.130-10.84.52.250]", "[10.84.252.130-10.84.52.250]", "range-reversed"),
]
"""Right, wrong, and the rule that says so and knows what was right."""

TOLD = [
    ("[10.84.52.130-10.84.52.250]", "[10.84.52.250-10.84.52.130]", "range-reversed"),
    ("ptp: {address: 10.84.255.1/31}", "ptp: {address: 10.84.255.1/29}", "interfaces-overlap"),
    ("ptp: {address: 10.84.255.0/31}", "ptp: {address: 10.84.255.0/29}", "interface-edge-address"),
    ("resolver-2, address: 10.84.0.54", "resolver-2, address: 10.84.0.255", "static-edge-address"),
    ("[10.84.52.20-10.84.52.129]", "[10.84.52.129-10.84.52.20]", "range-reversed"),
    ("-10.84.51.250]", "-10.84.51.255]", "range-takes-edge-address"),
    ("vlan: 50, relay_to", "vlan: 51, relay_to", "vlan-differs"),
    ("lan: {address: 10.84.0.11/24}", "lan: {address: 10.84.0.10/24}", "address-held-twice"),
    ("vlan: 60, vrf: guests, relay", "vlan: 60, relay", "relay-misplaced"),
    ("relay_to: [10.84.0.10, 10.84.0.11]", "relay_to: [10.84.0.2]", "relay-to-itself"),
    ("10.84.51.63", "10.84.51.73", "pools-overlap"),
    ("devices: 90", "devices: 240", "subnet-outgrown"),
    ("lease: 2h", "lease: 12h", "lease-too-long"),
    ("lease: 8d", "lease: infinite", "lease-infinite"),
    ("10.84.0.53, 10.84.0.54]", "10.84.50.53, 10.84.0.54]", "infrastructure-in-pool"),
    ("{150: 10.84.0.60}", "{150: 10.84.52.60}", "infrastructure-in-pool"),
    (
        "{name: resolver-1, address: 10.84.0.53}",
        "{name: x, address: 10.84.0.10}",
        "address-held-twice",
    ),
]
"""Mistakes that can be put right in more than one way."""


def leaders(subject: Subject) -> list[str]:
    """The rules of the findings that follow from no other."""
    report = reservoir.check(subject, ignore=["demand-unknown"])
    return [finding.rule for finding in report.findings if finding.cause is None]


def leaders_in(file: Path, dialect: str) -> Counter[str]:
    """The same for one device's configuration, looked at alone."""
    return Counter(leaders(reservoir.combine(reservoir.read([str(file)], dialect))))


@pytest.mark.parametrize(("right", "wrong", "rule"), MENDABLE)
def test_a_slip_is_found_and_undone(right: str, wrong: str, rule: str, run: Run, put: Put) -> None:
    """One finding; mending gives the sound plan back, letter for letter, or changes nothing."""
    assert right in SOUND
    typed = SOUND.replace(right, wrong, 1)
    plan = put("plan.yaml", typed)
    assert leaders(reservoir.load(str(plan))) == [rule]
    found = [each for each in reservoir.check(reservoir.load(str(plan))) if each.rule == rule]
    assert run("mend", "plan.yaml", "--in-place").code == 0
    assert plan.read_text() == (SOUND if found[0].is_mendable else typed)


@pytest.mark.parametrize(("right", "wrong", "rule"), TOLD)
def test_a_mistake_is_one_finding(right: str, wrong: str, rule: str, put: Put) -> None:
    """However many things go wrong because of it."""
    assert right in SOUND
    plan = put("plan.yaml", SOUND.replace(right, wrong, 1))
    assert leaders(reservoir.load(str(plan))) == [rule]


WRITTEN = re.compile(r"\b([0-9]+)\.([0-9]+)\.([0-9]+)\.([0-9]+)(/[0-9]+)?\b")


def swapped(octets: list[str], length: str) -> str:
    """Two digits of the second octet swapped, if there are two."""
    octets[1] = str(int(octets[1][1::-1] + octets[1][2:]))
    return ".".join(octets) + length


def lost(octets: list[str], length: str) -> str:
    """The last digit of the third octet lost, if there are more."""
    octets[2] = octets[2][:-1] or octets[2]
    return ".".join(octets) + length


def next_key(octets: list[str], length: str) -> str:
    """The key beside the one that was meant, in the third octet."""
    octets[2] = str(int(octets[2]) ^ 1)
    return ".".join(octets) + length


def longer(octets: list[str], length: str) -> str:
    """Another prefix length, where there is one."""
    return ".".join(octets) + (f"/{(int(length[1:]) + 1) % 33}" if length else "")


SLIPS = [swapped, lost, next_key, longer]


@pytest.mark.parametrize("slip", SLIPS)
@pytest.mark.parametrize("file", [PLANS / "two-routers.yaml", RIGHT / "ferry-line.yaml"])
def test_any_address_with_a_slip_is_one_finding_at_most(
    file: Path, slip: Callable[[list[str], str], str], tmp_path: Path
) -> None:
    """Of gateways, exclusions, interfaces, relays, routes, servers, subnets.

    A range may reach several machines. Mostly a slip is found, and what was meant is suggested;
    what `mend` would do unasked is hardly ever something else.
    """
    shutil.copytree(file.parent, tmp_path, dirs_exist_ok=True)
    text, tried, noticed, undone, misled = file.read_text(), 0, 0, 0, 0
    for found in WRITTEN.finditer(text):
        *octets, length = (part or "" for part in found.groups())
        meant, wrong = found[0], slip(octets, length)
        if wrong == meant:
            continue
        (tmp_path / file.name).write_text(text[: found.start()] + wrong + text[found.end() :])
        subject = reservoir.load(str(tmp_path / file.name))
        found_wrong = reservoir.check(subject).findings
        first = [f for f in found_wrong if f.cause is None and f.severity > Severity.ADVICE]
        in_range = "ranges:" in text[text.rfind("\n", 0, found.start()) : found.start()]
        assert len(first) <= (3 if in_range else 1), (meant, wrong, [f.message for f in first])
        tried, noticed = tried + 1, noticed + bool(first)
        undone += any(meant in str(s.new) for f in first for s in f.suggestions)
        misled += any(f.is_mendable and meant not in str(f.suggestions[0].new) for f in first)
    assert noticed > tried * (0.85 if slip is swapped else 0.5), (tried, noticed)
    assert misled <= tried * (0.03 if slip is swapped else 0.2), (tried, misled)
    assert undone > noticed * (0.7 if slip is swapped else 0.3), (noticed, undone)


ROUTER, OFFICE = "pier-router.larkspur", "harbour-office.merganser"

CONFIGURED = [
    (ROUTER, "holds 10.84.20.1/22", "holds 10.84.20.1/24", "interface-mask-differs"),
    (ROUTER, "deck tag 24", "deck tag 20", "vlan-twice"),
    (ROUTER, "withhold 10.84.20.1 to", "withhold 10.84.20.2 to", "gateway-in-pool"),
    (ROUTER, "withhold 10.84.22.1\n", "withhold 10.84.222.1\n", "exclusion-outside-subnet"),
    (ROUTER, "gateway 10.84.20.1", "gateway 10.84.2.1", "gateway-outside-subnet"),
    (ROUTER, "subnet 10.84.20.0/22", "subnet 10.84.28.0/22", "subnet-differs"),
    (ROUTER, "subnet 10.84.20.0/22", "subnet 10.84.20.0/44", "line-not-understood"),
    (ROUTER, "pool passenger-wifi", "pol passenger-wifi", "line-not-understood"),
    (ROUTER, "carries to 10.84.0.10", "carries to 10.84.0.110", "server-not-reached"),
    (ROUTER, "ips 10.84.0.123", "ips 10.84.22.123", "infrastructure-in-pool"),
    (
        OFFICE,
        "lend 10.84.50.40 through 10.84.50",
        "lend 10.84.5.40 through 10.84.5",
        "exclusion-idle",
    ),
    (OFFICE, "lend 10.84.50.40 through", "lend 10.84.150.40 through", "range-reversed"),
    (OFFICE, "lend 10.84.51.20 through 10.84", "lend 10.84.51.20 through 10.48", "range-reversed"),
    (OFFICE, "net 10.84.51.0", "net 10.84.15.0", "subnet-differs"),
    (OFFICE, "in zone staff", "in zone stuff", "zone-blocks-dhcp"),
    (OFFICE, "zone staff:\n    admit dhcp", "zone staff:\n    admit ping", "zone-blocks-dhcp"),
    (OFFICE, "through 10.84.0.1\n", "through 10.84.1.1\n", "next-hop-unreachable"),
    (ROUTER, "way 0.0.0.0/0 by 10.84.0.1", "way 0.0.0.0/0 by 10.48.0.1", "next-hop-unreachable"),
    (OFFICE, "address 10.84.52.1", "address 10.84.25.1", "server-not-reached"),
]
"""A device's file, what stands there, a mistake, and the rule that finds it."""

SHOWN_AT_THE_POOL = (
    *("gateway-in-pool", "infrastructure-in-pool", "server-not-reached", "vlan-twice"),
)
"""What a pool suffers from is said there, wherever the line is that is wrong or missing."""


@pytest.fixture(scope="module")
def written(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The configuration of the ferry line's devices, as it is written from a sound plan."""
    folder = tmp_path_factory.mktemp("line")
    shutil.copytree(RIGHT, folder, dirs_exist_ok=True)
    assert program(folder, "write", "ferry-line.yaml").code == 0
    return folder / "configuration"


@pytest.mark.parametrize(("file", "right", "wrong", "rule"), CONFIGURED)
def test_a_mistake_in_configuration_is_one_finding(
    file: str, right: str, wrong: str, rule: str, written: Path, tmp_path: Path
) -> None:
    """In the file of one device, looked at beside those of the others, and in its line."""
    text = (written / file).read_text()
    assert right in text
    (tmp_path / file).write_text(text.replace(right, wrong, 1))
    others = sorted(str(there) for there in written.glob("[!.]*") if there.name != file)
    reads = reservoir.read([str(tmp_path / file), *others])
    subject = reservoir.combine(reads)
    found_wrong = reservoir.check(subject, ignore=["demand-unknown"]).findings
    (first,) = (finding for finding in found_wrong if finding.cause is None)
    assert first.rule == rule
    if rule not in SHOWN_AT_THE_POOL:
        place, line = subject.place(first.at), text[: text.index(right)].count("\n") + 1
        assert (place.file, place.line) == (str(tmp_path / file), line)


def converted(written: Path, dialect: str, folder: Path) -> Path:
    """A file with what the dialect can hold of the router's configuration."""
    file = folder / f"pier-router.{dialect}"
    program(written, "convert", ROUTER, "--to", dialect, "--out", str(file))
    return file


def slipped(line: str) -> str:
    """The line with a letter of its first word lost."""
    word = re.search("[a-zA-Z]{3,}", line)
    return line if word is None else line[: word.start() + 1] + line[word.start() + 2 :]


def mangled(line: str) -> str:
    """The line with its last number made none."""
    return re.sub(r"\d+(?=\D*$)", "9x", line)


def transposed(line: str) -> str:
    """The line with two digits of its first address swapped."""
    return re.sub(r"(\d+\.)(\d)(\d)(?=\.\d+\.\d+)", r"\1\3\2", line, count=1)


def gone(line: str) -> None:
    """No line at all."""


def doubled(line: str) -> str:
    """The line, and the same again."""
    return f"{line}\n{line}"


DAMAGES = (slipped, mangled, transposed, gone, doubled)


@pytest.mark.parametrize("dialect", Library().names)
def test_a_damaged_line_is_one_finding(dialect: str, written: Path, tmp_path: Path) -> None:
    """Every other line of a router in each dialect, damaged in one way or another.

    Whatever it was: a value, a name, the end of a block, a bracket. A line that is gone may leave
    two kinds of lines without a home.
    """
    file = converted(written, dialect, tmp_path)
    lines = file.read_text().splitlines()
    sound = leaders_in(file, dialect)
    for number, line in enumerate(lines):
        if not line.strip() or line.startswith(FILE_MARK) or number % 2 == len(dialect) % 2:
            continue
        damage = DAMAGES[number % len(DAMAGES)]
        new = damage(line)
        file.write_text("\n".join([*lines[:number], *([new] if new else []), *lines[number + 1 :]]))
        more = leaders_in(file, dialect) - sound
        assert more.total() <= 1 + (damage is gone), (line, new, more)


@pytest.mark.parametrize("dialect", Library().names)
def test_what_puts_it_right_is_told_in_the_lines_of_the_file(
    dialect: str, written: Path, tmp_path: Path, run: Run
) -> None:
    """The line that stands there goes, and the one that comes is what stood there before."""
    file = converted(written, dialect, tmp_path)
    sound = file.read_text()
    told = 0
    for number, line in enumerate(sound.splitlines()):
        if re.search(r"\b10\.84\.20\.1\b", line) is None:
            continue
        wrong = re.sub(r"\b10\.84\.20\.1\b", "10.48.20.1", line, count=1)
        lines = sound.splitlines()
        file.write_text("\n".join([*lines[:number], wrong, *lines[number + 1 :]]))
        subject = reservoir.combine(reservoir.read([str(file)], dialect))
        first = [f for f in reservoir.check(subject).findings if f.cause is None]
        for edit in (edit for finding in first for edit in finding.suggestions):
            changes = subject.lines_of(edit)
            gone = [change.text for change in changes if not change.is_new]
            come = [change.text for change in changes if change.is_new]
            assert len(gone) == len(come)  # as often as bindings of the network repeat it
            assert set(zip(gone, come, strict=True)) <= {(bare(wrong), bare(line))}
            if changes and not told:  # and so the program shows it
                shown = run("check", str(file), "--fail-on", "never").out
                assert f"- {gone[0]}\n" in shown
                assert f"+ {come[0]}\n" in shown
            told += bool(changes)
    assert told or dialect in UNTOLD


UNTOLD = ("linux-host", "thimble")
"""One's gateway is the interface's own address, which is the plan's word for both; a slip in one of
several shelves of the other makes it differ from them, which is told without an edit."""


def bare(line: str) -> str:
    """A line without its layout."""
    return line.strip().removesuffix(",")
