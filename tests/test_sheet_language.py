"""The sheet language: forms, lines, and every trait's effect, on sheets made for the test."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import example, given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from met import meets, met
from reservoir.core.pools import Pools
from reservoir.core.problems import InputError
from reservoir.core.values.addresses import MalformedValueError, Prefix, format_address
from reservoir.core.values.clients import Mac
from reservoir.core.values.durations import INFINITE
from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.behaviour.names import NameFitter
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.facts.options import option_data
from reservoir.dialects.forms.durations import DurationForm
from reservoir.dialects.forms.plain import ADDRESS, MacForm
from reservoir.dialects.forms.texts import ListOf, Rest, Text
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.render.writer import write_configuration, write_exactly
from reservoir.dialects.sheet.ambiguity import ambiguities, common_line
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.lint import too_strict
from reservoir.dialects.sheet.loader import load_sheet
from reservoir.dialects.sheet.model import Naming
from reservoir.dialects.sheet.patterns import BadValueError, LinePattern
from reservoir.dialects.sheet.traits import TRAITS
from reservoir.dialects.writing import write_device

texts = st.builds(
    Text,
    quote=st.sampled_from(["", '"', "'", "|"]),
    doubled=st.booleans(),
    bare=st.sampled_from(["a-z", "A-Za-z0-9._-", "a-z0-9"]),
)


@meets("refused", "quoted")
@given(form=texts, value=st.text(max_size=12) | st.text("a\"'|\\ ", min_size=1, max_size=8))
def test_a_text_is_written_so_that_it_is_found_and_read_again(form: Text, value: str) -> None:
    """Or refused; what is written is one stretch of the form's own pattern, on one line."""
    try:
        written = form.write(value)
    except MalformedValueError:
        met("refused")
        assert not form.quote or not value.isprintable() or not value.strip()
        return
    met("quoted", written != value)
    assert form.read(written) == value
    assert re.fullmatch(form.pattern, written)
    assert "\n" not in written
    found = re.fullmatch(f"name ({form.pattern}) next", f"name {written} next")
    assert found is not None
    assert found[1] == written


@given(
    number=st.integers(0, 2**48 - 1),
    group=st.sampled_from([2, 4, 6, 12]),
    separator=st.sampled_from([":", "-", ".", ""]),
    prefix=st.sampled_from(["", "01", "01.", "1,1,"]),
    upper=st.booleans(),
    hardware=st.sampled_from(["", "", "01", "0006"]),
)
@example(0x5E005301, 4, ".", "", False, "01")
def test_a_mac_in_any_form(
    number: int, group: int, separator: str, prefix: str, upper: bool, hardware: str
) -> None:
    """With a hardware type before it, among its groups, or not; without it, it is refused."""
    if not separator and group not in (6, 12):
        return  # groups of two without a separator are a group of twelve
    form = MacForm(group, separator, prefix, upper, hardware)
    if (number, group, separator, prefix, hardware) == (0x5E005301, 4, ".", "", "01"):
        assert form.write(Mac(number)) == "0100.005e.0053.01"
    assert form.read(form.write(Mac(number))) == number
    if prefix:
        with pytest.raises(MalformedValueError):
            form.read("99" + str(Mac(number)))


@given(
    units=st.sets(st.sampled_from("wdhms"), min_size=1),
    glue=st.sampled_from([" {} ", "{}", ":{}", " {}, "]),
    seconds=st.integers(1, 10**8),
    infinite=st.sampled_from(["", "for ever", "none"]),
)
def test_a_lease_time_by_any_template(
    units: set[str], glue: str, seconds: int, infinite: str
) -> None:
    """Written if it divides into the template's units, refused otherwise; never rounded."""
    ordered = [unit for unit in "wdhms" if unit in units]
    template = " ".join(f"{{{unit}}}{glue.format(unit).rstrip()}" for unit in ordered)
    form = DurationForm(template, infinite)
    if seconds % form.step:
        with pytest.raises(MalformedValueError):
            form.write(seconds)
        seconds -= seconds % form.step
    if seconds:
        assert form.read(form.write(seconds)) == seconds
    if infinite:
        assert form.read(form.write(INFINITE)) == INFINITE
        assert form.read(form.write(INFINITE).replace(" ", "   ")) == INFINITE
    else:
        with pytest.raises(MalformedValueError):
            form.write(INFINITE)


@given(
    values=st.lists(st.integers(0, 2**32 - 1), min_size=1, max_size=5),
    separator=st.sampled_from([" ", ", ", ",", ";", " | "]),
)
def test_a_list_is_read_with_blanks_around_its_separator(values: list[int], separator: str) -> None:
    """As it was written, and as a person would space it."""
    form = ListOf(ADDRESS, separator)
    written = form.write(tuple(values))
    assert form.read(written) == tuple(values)
    if separator.strip():
        spaced = written.replace(separator.strip(), f"  {separator.strip()}  ")
        assert form.read(spaced) == tuple(values)
    with pytest.raises(MalformedValueError):
        form.write(())


@given(st.text(max_size=10))
def test_rest_of_a_line(value: str) -> None:
    """What could end the line or lose its blanks is refused."""
    try:
        assert Rest().read(Rest().write(value)) == value
    except MalformedValueError:
        assert not value.isprintable() or value != value.strip() or not value


@meets("a name changed", "a name that is taken")
@given(
    names=st.lists(st.text(max_size=8), max_size=12),
    longest=st.sampled_from([0, 4, 8]),
    characters=st.sampled_from(["", "a-z", "A-Za-z0-9-"]),
    places=st.sets(st.integers(0, 11)),
)
def test_names_are_made_fit_and_stay_different(
    names: list[str], longest: int, characters: str, places: set[int]
) -> None:
    """Each within the device's length and characters, no two the same, changes on record.

    And none that something else on the device has.
    """
    earlier = NameFitter(Naming(longest, characters))
    there = [earlier.fit(name) for place, name in enumerate(names) if place in places]
    fitter = NameFitter(Naming(longest, characters), there)
    fitted = [fitter.fit(name) for name in names]
    met("a name changed", fitted != names)
    met("a name that is taken", bool(set(names) & set(there)))
    assert not set(fitted) & set(there)
    assert len(set(fitted)) == len(fitted)
    for name, result in zip(names, fitted, strict=True):
        assert result
        assert not longest or len(result) <= longest
        if characters:
            assert re.fullmatch(f"[{characters}0-9-]+", result)
        if result != name:
            assert name in fitter.changed


SHEET = """\
sheet gannet
statement newline
block indent 2
comment "#"
quote "'" doubled
list ","
duration "{{s}}" infinite "never"
{traits}
---
device        | machine {{name}}
device service=yes | on
device service=no  | off
interface *   | plug {{name}}
 ?            |   has {{address}}
 ? service=yes |   serves
exclusion *   | not {{first}}..{{last}}
pool *        | stock {{name}}
              |   of {{subnet}}
 ?            |   at {{interface}}
range *       |   give {{first}}..{{last}}
exclusion *   |   keep {{first}}..{{last}}
 ?            |   exit {{gateway}}
 ?            |   ask {{dns}}
 ?            |   for {{lease}}
binding *     | own {{address}} = {{mac}} [? of {{name}}] [? via {{gateway}}] [? in {{subnet}}] \
[? ask {{dns}}] [? for {{lease}}] [? at {{interface}}]
"""

ROWS = {
    "device service=yes": ("service", "master"),
    " ? service=yes": ("service", "interface"),
    "exclusion *   | not": ("exclusions", "device-wide"),
    "exclusion *   |   keep": ("exclusions", "in-pool"),
    "range *": ("assigns", "ranges"),
}
"""Rows that need a word in the value of a trait."""


def gannet(limits: str = "", **traits: str) -> str:
    """The sheet with some traits, without the rows that mean nothing with them."""
    chosen = {name.replace("_", "-"): value for name, value in traits.items()}
    lines = [f"trait {name} {value}" for name, value in chosen.items()]
    every = {name: trait.default for name, trait in TRAITS.items()} | chosen
    return "\n".join(
        line
        for line in SHEET.format(traits="\n".join([*lines, limits])).split("\n")
        if not any(line.startswith(row) and word not in every[t] for row, (t, word) in ROWS.items())
    )


WHOLE = gannet(exclusions="in-pool-and-device-wide", service="master-and-interface")
"""The sheet with all its rows."""

PLAN = """\
reservoir: 1
devices:
  box:
    dialect: gannet
    interfaces: {lan: {address: 10.84.30.1/24}}
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.254
    dns: 10.84.0.53
    lease: 1h
    served_by: box
    ranges: [10.84.30.1-10.84.30.99]
    exclusions: [10.84.30.40-10.84.30.49]
    bindings: [{name: bell, mac: 00:00:5e:00:53:01, address: 10.84.30.20}]
"""


def written(folder: Path, plan: str = PLAN, limits: str = "", **traits: str) -> Any:
    """The plan, written for a device with these traits."""
    (folder / "dialects").mkdir(exist_ok=True)
    (folder / "dialects" / "gannet.sheet").write_text(gannet(limits, **traits))
    (folder / "plan.yaml").write_text(plan)
    (result,) = reservoir.write(reservoir.load(str(folder / "plan.yaml")))
    assert not result.faults
    assert not result.losses
    return result


@pytest.mark.parametrize(
    ("traits", "there", "absent"),
    [
        (
            {"assigns": "subnet-less-exclusions", "exclusions": "in-pool"},
            ["keep 10.84.30.40..10.84.30.49", "keep 10.84.30.100..10.84.30.254"],
            ["give", "not ", "10.84.30.20.."],
        ),
        (
            {"assigns": "subnet-less-exclusions", "exclusions": "device-wide"},
            ["not 10.84.30.40..10.84.30.49", "not 10.84.30.100..10.84.30.254"],
            ["give", "keep"],
        ),
        (
            {"assigns": "ranges", "exclusions": "in-pool", "bound_address": "excluded"},
            ["give 10.84.30.1..10.84.30.99", "keep 10.84.30.20..10.84.30.20"],
            ["not "],
        ),
        (
            {"assigns": "ranges", "exclusions": "device-wide", "bound_address": "outside-ranges"},
            ["give 10.84.30.1..10.84.30.19", "give 10.84.30.21..", "not 10.84.30.40..10.84.30.49"],
            ["keep", "not 10.84.30.20"],
        ),
        (
            {"assigns": "ranges", "exclusions": "none", "bound_address": "outside-ranges"},
            ["give 10.84.30.1..10.84.30.19", "..10.84.30.39", "give 10.84.30.50..10.84.30.99"],
            ["keep", "not "],
        ),
        (
            {"assigns": "ranges", "exclusions": "none", "bound_address": "anywhere"},
            ["give 10.84.30.1..10.84.30.39", "give 10.84.30.50..10.84.30.99"],
            ["keep", "not ", "10.84.30.19"],
        ),
        ({"bindings": "table"}, ["own 10.84.30.20 = 00:00:5e:00:53:01 of bell\n"], []),
        (
            {"bindings": "one-address-pool"},
            ["of bell via 10.84.30.254 in 10.84.30.0/24 ask 10.84.0.53 for 3600\n"],
            [],
        ),
        ({"pool_found_by": "joined-interface"}, ["  at lan\n"], []),
        ({"pool_found_by": "subnet-or-relay"}, [], ["  at lan\n"]),
        ({"service": "on-from-factory"}, [], ["on\n", "off\n", "serves"]),
        ({"service": "master-and-interface"}, ["on\n", "  serves\n"], ["off\n"]),
        ({"own_address": "skipped", "exclusions": "none"}, ["give 10.84.30.2.."], []),
    ],
)
def test_each_trait_shapes_what_is_written(
    traits: dict[str, str], there: list[str], absent: list[str], tmp_path: Path
) -> None:
    """And each text, read again, assigns the same: writing has checked it."""
    text = written(tmp_path, **traits).text
    for piece in there:
        assert piece in text
    for piece in absent:
        assert piece not in text


def test_too_many_exclusions_split_the_ranges(tmp_path: Path) -> None:
    """A device that holds one exclusion gets ranges around two."""
    traits = {"assigns": "ranges", "exclusions": "device-wide"}
    traits["bound_address"] = "excluded"
    assert "not " in written(tmp_path, limits="limit device.exclusion 2", **traits).text
    split = written(tmp_path, limits="limit device.exclusion 1", **traits).text
    assert "not " not in split
    assert split.count("give") == 3


def test_a_device_that_serves_nothing_is_switched_off(tmp_path: Path) -> None:
    """Where it would serve from the factory."""
    plan = PLAN.replace("    served_by: box\n", "    served_by: []\n")
    assert "off\n" in written(tmp_path, plan, service="on-from-factory").text
    assert "off\n" not in written(tmp_path, plan, service="master-and-interface").text


@pytest.mark.parametrize(
    ("traits", "change", "rule"),
    [
        ({"blank_gateway": "own-address"}, ("    gateway: 10.84.30.254\n", ""), "gateway-missing"),
        ({"blank_gateway": "nothing"}, ("gateway: 10.84.30.254", "gateway: none"), None),
        ({"blank_dns": "refused"}, ("    dns: 10.84.0.53\n", ""), "dns-missing"),
        ({"blank_dns": "nothing"}, ("dns: 10.84.0.53", "dns: []"), None),
        ({}, ("lease: 1h", "lease: infinite"), None),
    ],
)
def test_what_a_device_does_by_itself_is_a_finding_where_it_hurts(
    traits: dict[str, str], change: tuple[str, str], rule: str | None, tmp_path: Path
) -> None:
    """The finding names the rule; without such a trait there is none."""
    written(tmp_path, **traits)
    (tmp_path / "plan.yaml").write_text(PLAN.replace(*change))
    chosen = ["limits", "gateway-missing", "dns-missing"]
    report = reservoir.check(reservoir.load(str(tmp_path / "plan.yaml")), select=chosen)
    assert [finding.rule for finding in report.findings] == ([rule] if rule else [])


def test_traits_and_kinds_are_said_in_sentences() -> None:
    """Each trait and value has its meaning; each kind stands in a kind that exists."""
    for name, trait in TRAITS.items():
        assert trait.sentence.endswith("."), name
        assert trait.default in trait.values or not trait.values
        assert all(meaning.endswith(".") for meaning in trait.values.values())
    for kind in KINDS.values():
        assert set(kind.inside) <= set(KINDS)


values_of = {
    "ip": st.integers(0, 2**32 - 1),
    "ips": st.lists(st.integers(0, 2**32 - 1), min_size=1, max_size=3).map(tuple),
    "prefix": st.builds(Prefix, st.integers(0, 2**32 - 1), st.integers(0, 32)),
    "mac": st.integers(0, 2**48 - 1).map(Mac),
    "text": st.text("ab '\\\"-#{}[]:.", min_size=1, max_size=6),
    "duration": st.integers(1, 10**6) | st.just(INFINITE),
    "bool": st.just(True),
}


def facts(kind: str, children: st.SearchStrategy[list[Fact]]) -> st.SearchStrategy[Fact]:
    """Facts of a kind with any of the fields that SHEET has lines for."""
    fields = {
        name: values_of[field.type]
        for name, field in KINDS[kind].fields.items()
        if field.type in values_of
        and f"{{{{{name}}}}}" in SHEET
        and (kind, name) not in {("interface", "interface"), ("exclusion", "note")}
    }
    return st.builds(Fact, st.just(kind), st.fixed_dictionaries({}, optional=fields), children)


no_facts: st.SearchStrategy[list[Fact]] = st.just([])
spans = facts("range", no_facts) | facts("exclusion", no_facts)
devices = facts(
    "device",
    st.lists(
        facts("pool", st.lists(spans, max_size=3))
        | facts("binding", no_facts)
        | facts("interface", no_facts)
        | facts("exclusion", no_facts),
        max_size=5,
    ),
)


@given(device=devices)
@settings(max_examples=examples(250))
def test_any_facts_are_written_as_far_as_they_can_be_and_read_again(device: Fact) -> None:
    """Half facts too: what the writer claims to have expressed is what the reader finds."""
    sheet = load_sheet(WHOLE, "gannet.sheet")
    written = write_configuration(device, sheet)
    exactly = write_exactly(device, sheet)
    assert (written.text, written.expressed) == (exactly.text, exactly.expressed)
    assert {(r.what, r.reason) for r in written.refusals} == {
        (r.what, r.reason) for r in exactly.refusals
    }
    reading = read_configuration(written.text, sheet)
    assert reading.device == written.expressed
    assert not reading.not_understood
    assert not reading.foreign
    refused = {id(refusal.fact) for refusal in written.refusals}
    whole = [fact for fact in device.children if id(fact) not in refused]
    kept = [fact.kind for fact in written.expressed.children]
    assert all(kept.count(fact.kind) for fact in whole)
    assert write_configuration(reading.device, sheet).text == written.text


def test_spacing_comments_and_line_ends_do_not_matter() -> None:
    """A person's hand is read like the writer's."""
    sheet = load_sheet(WHOLE, "gannet.sheet")
    neat = "machine box\nstock 'a b'\n  of 10.84.30.0/24\n  exit 10.84.30.1\n"
    loose = (
        "# by hand\r\n\r\nmachine   box  \r\nstock\t'a b'\r\n"
        "      # inside\r\n\tof  10.84.30.0/24\r\n\texit 10.84.30.1\t\r\n"
    )
    read = read_configuration(loose, sheet)
    assert read.device == read_configuration(neat, sheet).device
    assert read.comments == 2
    assert not read.not_understood


PIECES = ["a", "b", "to", "-", "..", "{address}", "{mac}", "{lease}", "{name}", "{dns}"]
PIECES.append("[? x {pool}]")
lines = st.lists(st.sampled_from(PIECES), min_size=1, max_size=5, unique=True)
glues = st.sampled_from([" ", " ", ""])


def pattern_of(pieces: list[str], glue: str) -> LinePattern | None:
    """The line of a sheet's row; None if the sheet has a mistake already."""
    header = gannet().partition("---\n")[0] + "---\n"
    try:
        sheet = load_sheet(f"{header}binding * | {glue.join(pieces)}\n", "x.sheet", proven=True)
    except InputError:
        return None
    return sheet.rows[0].pattern


binding_values: dict[str, Any] = {
    "address": 0x0A541401,
    "mac": Mac(0x5E005301),
    "lease": 5,
    "name": "b",
    "dns": (0x0A540035, 0x0A540135),
    "pool": "to",
}


@meets("an ambiguity", "none")
@given(one=lines, other=lines, glue=glues, other_glue=glues)
@settings(max_examples=examples(250))
def test_an_ambiguity_has_a_line_that_shows_it(
    one: list[str], other: list[str], glue: str, other_glue: str
) -> None:
    """Both rows match the witness; without one, neither reads what the other writes."""
    first, second = pattern_of(one, glue), pattern_of(other, other_glue)
    if first is None or second is None:
        return
    witness = common_line(first, second)
    met("an ambiguity" if witness is not None else "none")
    if witness is not None:
        assert first.match(witness), witness
        assert second.match(witness), witness
        return
    for writer, reader in ((first, second), (second, first)):
        for fields in (binding_values, {k: v for k, v in binding_values.items() if k != "pool"}):
            try:
                assert reader.read(writer.write(fields, set())) is None
            except BadValueError:
                continue


def test_the_shipped_sheets_are_without_ambiguities() -> None:
    """They are not looked at again each time that they are loaded."""
    for name in Library().names:
        sheet = Library().sheet(name)
        assert not list(ambiguities(sheet.rows, sheet.undo))
        assert not list(too_strict(sheet))


OWN_WORDS = """\
sheet gannet
statement newline
block indent 2
quote "'" doubled
duration "{m} min" infinite "never"
duration longest "{h}:{m}"
words option.type ip="one address" ips="addresses" text="ascii" hex="bytes"
---
pool *    | stock {name}
          |   of {subnet}
 ?        |   for {lease}
 ?        |   up to {longest}
option *  |   extra {code} {type} is {value}
range *   |   give {first}..{last}
binding * | own {address} = {mac}
"""


BYTES = (
    st.binary(min_size=4, max_size=4)
    | st.binary(min_size=1, max_size=12)
    | st.text("abc'/", min_size=1, max_size=9).map(str.encode)
)


@meets("one address", "addresses", "ascii", "bytes")
@given(code=st.sampled_from([16, 42, 66, 224]), data=BYTES,
       lease=st.integers(1, 10**5), longest=st.integers(1, 10**5))  # fmt: skip
def test_a_device_has_its_own_words_and_durations(
    code: int, data: bytes, lease: int, longest: int
) -> None:
    """For a type that it has no word for, the bytes are written; each duration in its own form."""
    sheet = load_sheet(OWN_WORDS, "gannet.sheet")
    network = {
        "subnet": "10.84.30.0/24",
        "served_by": "box",
        "lease": f"{lease}m",
        "ranges": ["10.84.30.9"],
        "options": {str(code): {"hex": data.hex()}},
    }
    box = {"dialect": "gannet", "interfaces": {"a": {"address": "10.84.30.1/24"}}}
    plan = {"reservoir": 1, "devices": {"box": box}, "networks": {"crew": network}}
    written = write_device(reservoir.loads(yaml.safe_dump(plan)).pools, "box", sheet)
    assert not written.faults
    told = [word for word in ("one address", "addresses", "ascii", "bytes") if word in written.text]
    for word in told:
        met(word)
    assert len(told) == 1
    text = (
        f"{written.text}\nstock more\n  of 10.84.31.0/24\n  up to {longest // 60}:{longest % 60}\n"
    )
    read = read_configuration(text, sheet)
    assert not read.not_understood
    first, second = read.device.of_kind("pool")
    assert (first.get("lease"), second.get("longest")) == (lease * 60, longest * 60)
    (option,) = first.of_kind("option")
    assert option_data(option) == data


@pytest.mark.parametrize(
    ("was", "instead", "said"),
    [
        (
            'ip="one address"',
            'up="one"',
            "7:1: there is no type 'up'; there are ip, ips, text",
        ),
        ('text="ascii"', 'text="bytes"', "each type has one word of its own, not 'hex=bytes'"),
        ('text="ascii"', "text", "each type has one word of its own, not 'text'"),
        ("words option.type", "words option.code", "words are the device's own for a closed set"),
        ("duration longest", "duration", "6:1: the duration of lease is already set"),
        ('longest "{h}:{m}"', 'longest "long"', "6:1: a duration has units in it"),
    ],
)
def test_words_and_durations_that_say_nothing_are_refused(
    was: str, instead: str, said: str
) -> None:
    """With the line, and what there is."""
    with pytest.raises(InputError, match=re.escape(said)):
        load_sheet(OWN_WORDS.replace(was, instead), "gannet.sheet")


@given(address=st.integers(0, 2**32 - 1), bits=st.integers(0, 32), wrong=st.integers(0, 2**32 - 1))
def test_a_mask_is_read_and_written_upside_down(address: int, bits: int, wrong: int) -> None:
    """``0.0.0.255`` is a /24; what has gaps is named, and so is a mask that stands upright."""
    header = 'sheet gannet\nblock indent 2\nduration "{m}"\n---\n'
    rows = "pool * | stock {name} of {subnet:ip} wild {subnet:inverted}\nrange * |   give {first}\n"
    sheet = load_sheet(f"{header}{rows}binding * | own {{address}} = {{mac}}\n", "gannet.sheet")
    host = (1 << (32 - bits)) - 1
    text = f"stock crew of {format_address(address)} wild {format_address(host)}\n  give 10.1.1.1\n"
    reading = read_configuration(text, sheet)
    assert not reading.not_understood
    (pool,) = reading.device.of_kind("pool")
    assert pool.get("subnet") == Prefix(address, bits)
    assert write_configuration(reading.device, sheet).text == text
    odd = read_configuration(text.replace(format_address(host), format_address(wrong)), sheet)
    is_mask = wrong & (wrong + 1) == 0
    assert bool(odd.not_understood) == (not is_mask)
    if not is_mask:
        assert "is not an inverted mask, like 0.0.0.255" in odd.not_understood[0].message


REMARKS = [
    "/* stock old\n  of 10.84.99.0/24 */",
    "/**/",
    "  /* own 10.84.30.9 = 00:00:5e:00:53:99\n*/",
]


@given(places=st.lists(st.tuples(st.integers(0, 9), st.sampled_from(REMARKS)), max_size=4),
       newline=st.sampled_from(["\n", "\r\n"]))  # fmt: skip
def test_a_text_in_a_remark_over_lines_is_not_live(
    places: list[tuple[int, str]], newline: str
) -> None:
    """Wherever it stands; and it stays there when something is written into the text."""
    sheet = load_sheet(OWN_WORDS.replace("---\n", 'comment "#" "/*" to "*/"\n---\n'), "x.sheet")
    plan = "reservoir: 1\ndevices: {box: {dialect: x, interfaces: {a: {address: 10.84.30.1/24}}}}\n"
    plan += "networks: {crew: {subnet: 10.84.30.0/24, served_by: box, lease: LEASE, "
    plan += "ranges: [10.84.30.9], bindings: [{mac: 00:00:5e:00:53:01, address: 10.84.30.5}]}}\n"
    pools = [reservoir.loads(plan.replace("LEASE", lease)).pools for lease in ("1h", "2h")]
    neat = write_device(pools[0], "box", sheet).text
    lines = neat.split("\n")
    for place, remark in places:
        lines.insert(min(place, len(lines) - 1), remark)
    text = "\n".join(lines).replace("\n", newline)
    reading = read_configuration(text, sheet)
    assert reading.device == read_configuration(neat, sheet).device
    assert not reading.not_understood
    assert not reading.foreign
    into = write_device(pools[1], "box", sheet, text).text
    assert into == text.replace("for 60 min", "for 120 min").replace("up to 1:0", "up to 2:0")


@pytest.mark.parametrize(
    ("comment", "carrier", "said"),
    [
        ('"/*" to', "", "expected the signs that begin a comment"),
        ('"/*" to "*/"', "carrier xml", "in this notation no pair of signs is a comment"),
    ],
)
def test_half_a_remark_is_refused(comment: str, carrier: str, said: str) -> None:
    """In a sheet; in a text what isn't closed is live, and told."""
    text = OWN_WORDS.replace("---\n", f"comment {comment}\n---\n").replace(
        "statement newline\n", f"{carrier}\n"
    )
    with pytest.raises(InputError, match=said):
        load_sheet(text, "x.sheet")
    sheet = load_sheet(OWN_WORDS.replace("---\n", 'comment "/*" to "*/"\n---\n'), "x.sheet")
    open_end = "/* stock old\n  of 10.84.99.0/24\n"
    assert read_configuration(open_end, sheet).not_understood


OLD_SPELLINGS = """\
sheet gannet
statement newline
block indent 2
duration "{m} min"
---
device          | machine {name}
pool *          | stock {name}
                |   of {subnet}
read            |   net {subnet}
 ?              |   exit {gateway}
read ?          |   door {gateway}
read gateway=none |   no door
 ?              |   for {lease}
range *         |   give {first}..{last}
read range *    |   lend {first} {last}
binding *       | own {address} = {mac}
read binding *  | keep {address} {mac}
"""


@given(old=st.sets(st.integers(0, 5)))
def test_an_old_spelling_is_read_and_never_written(old: set[int]) -> None:
    """It says the same; where nothing is to change, it stays."""
    sheet = load_sheet(OLD_SPELLINGS, "gannet.sheet")
    lines = [
        ("stock crew", "stock crew"),
        ("  of 10.84.30.0/24", "  net 10.84.30.0/24"),
        ("  exit 10.84.30.1", "  door 10.84.30.1"),
        ("  for 60 min", "  for 60 min"),
        ("  give 10.84.30.20..10.84.30.29", "  lend 10.84.30.20 10.84.30.29"),
        ("own 10.84.30.9 = 00:00:5e:00:53:01", "keep 10.84.30.9 00:00:5e:00:53:01"),
    ]
    new, text = ("\n".join(some) + "\n" for some in (
        ["machine box", *(line for line, _ in lines)],
        ["machine box", *(pair[number in old] for number, pair in enumerate(lines))],
    ))  # fmt: skip
    reading = read_configuration(text, sheet)
    assert reading.device == read_configuration(new, sheet).device
    assert not reading.not_understood
    assert write_configuration(reading.device, sheet).text.replace("\n\n", "\n") == new
    pools = Pools(lift(reading.device, sheet, "box").plan())
    assert write_device(pools, "box", sheet, text).text == text


def test_what_is_only_read_is_nothing_that_a_device_can_be_told() -> None:
    """A field that only such a row has counts as one that the sheet has no row for."""
    less = OLD_SPELLINGS.replace(" ?              |   exit {gateway}\n", "")
    assert load_sheet(OLD_SPELLINGS, "gannet.sheet").mentions("pool", "gateway")
    sheet = load_sheet(less, "gannet.sheet")
    assert not sheet.mentions("pool", "gateway")
    reading = read_configuration("stock crew\n  of 10.84.30.0/24\n  door 10.84.30.1\n", sheet)
    (refused,) = write_configuration(reading.device, sheet).refusals
    assert (refused.fact.kind, refused.field) == ("pool", "gateway")
