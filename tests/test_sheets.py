"""Sheets: mistakes found when loaded, a user's own beside the plan, no dialect known by name."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

import reservoir
from conftest import Run
from reservoir.core.problems import InputError
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.loader import load_sheet
from reservoir.dialects.sheet.traits import TRAITS
from reservoir.dialects.trial import try_on, without_what_is_refused

Put = Callable[[str, str], Path]

HEADER = 'sheet gannet\nstatement newline\nblock indent 2\nduration "{m}"\nlist ","\n---\n'

GANNET = (
    HEADER.replace("---\n", "trait assigns ranges\ntrait blank-lease 2h\n---\n")
    + """\
device        | machine {name}
interface *   | plug {name}
 ?            |   has {address}
pool *        | stock {name}
              |   of {subnet}
range *       |   give {first}..{last}
 ?            |   exit {gateway}
 ?            |   ask {dns}
 ?            |   for {lease} min
binding *     | own {address} = {mac} [? "{name}"]
"""
)


@pytest.mark.parametrize(
    ("was", "instead", "said"),
    [
        ("sheet gannet\n", "", "7:1: the header is missing sheet"),
        ("statement newline", "statment ';'", "2:1: 'statment' is not a header keyword (did you"),
        ("statement newline", "carrier pigeon", "2:1: there is no carrier 'pigeon'"),
        ("statement newline", "carrier xml\nstatement newline", "statement is not for XML or JSON"),
        ("statement newline", "nest indent 2", "2:1: 'nest' is said by another word: block ind"),
        ("block indent 2", 'block opens "*:"', "3:1: a block is: block indent 2"),
        (
            "block indent 2",
            'block indent 2 dash " "',
            "3:1: nothing stands between what this keeps",
        ),
        ("block indent 2", 'block "{" "}" dash "-"', "begin with a dash where blocks are indented"),
        (
            "block indent 2",
            "block opens a closes b",
            "'a' should be words around one *, such as: begin",
        ),
        ("block indent 2", 'path " "', "3:1: nothing stands between what this keeps apart"),
        ("block indent 2", 'table ","', "the header says how one line is inside another"),
        ("block indent 2", 'table ","\npieces "="', "pieces can't stand there"),
        ("block indent 2", 'block indent 2\nonce "a"', "once is about headings"),
        (
            "assigns ranges",
            "asigns ranges",
            "6:1: there is no trait 'asigns' (did you mean assigns?)",
        ),
        ("assigns ranges", "assigns rangs", "assigns can't be 'rangs' (did you mean ranges?)"),
        ("blank-lease 2h", "blank-lease 2", "7:1: '2' is not a duration"),
        ('"{m}"', '"minutes"', "a duration has units in it"),
        ("pool *  ", "pol *  ", "12:1: 'pol' is not a kind of fact (did you mean pool?)"),
        ("{gateway}", "{gatewy}", "15:24: a fact of kind pool has no field 'gatewy' (did you"),
        (
            "{subnet}",
            "{subnet:ip}",
            "13:1: subnet is written in parts, so this line, or one next to it, needs {subnet:ip}",
        ),
        ("range *  ", "zone *   ", "a fact of kind zone belongs in a device, not in a pool"),
        ("blank-lease 2h", "blank-lease 2h\nlimit pool.lease 3", "there is no limit 'pool.lease'"),
        ("blank-lease 2h", "blank-lease 2h\nassume pool.lease = no", "an assumption is: assume"),
        ("exit {gateway}", "ask {gateway}", "this row and the one in line 15 both match 'ask"),
        (
            "{first}..{last}",
            "{first}.{last}",
            "can match 'give 10.84.20.11.10.84.20.12' in two ways",
        ),
        (
            "own {address} = {mac}",
            "own {mac} {address} {name}{mac}",
            "directly follows another slot",
        ),
        ('{mac} [? "{name}"]', "{mac}-{name}", "in two ways; put text between its slots"),
        ("{mac}", "{mac:dots}", "18:33: mac has no form named 'dots'"),
        ("{first}..{last}", "{first}{last}", "{last} directly follows another slot"),
        ('[? "{name}"]', '[? "{name}"', "an optional part is opened with [? and not closed"),
        ("device        |", "device         ", "a row has a '|' between what it states"),
        (
            "assigns ranges",
            "exclusions in-pool",
            "6:1: trait exclusions in-pool needs a row of kind",
        ),
        ("assigns ranges", "zone must-admit-dhcp", "needs a row that states admits of a fact of"),
        (
            "assigns ranges",
            "pool-found-by interface",
            "interface of a fact of kind pool or a row of",
        ),
        (
            "blank-lease 2h",
            "blank-lease 2h\ntrait bindings in-pool",
            "trait bindings in-pool needs",
        ),
        (
            "binding *     | own",
            "binding *     |   own",
            "18:1: a row of kind binding in one of kind pool needs trait bindings in-pool; here",
        ),
        (
            " ?            |   has",
            "exclusion *   | not {first}\ninterface *   | old\n ?            |   has",
            "a row of kind exclusion in one of kind device needs trait exclusions device-wide or ",
        ),
        (
            "device        | machine {name}",
            "device service=yes | on",
            "9:1: a row that states service of a fact of kind device needs trait service master or",
        ),
        ("range *  ", "option *   | x {code} {value}\nrange *  ", "belongs in a pool or binding"),
        (
            " ?            |   exit",
            "option *      |   extra {code} {value}\n ?            |   exit",
            "15:1: an option needs {code}, and {type} and {value}, or {data}",
        ),
        (
            "device  ",
            "left          | *\ndevice  ",
            "9:17: a row of lines that are left alone begins",
        ),
        ("blank-lease 2h", 'blank-lease 2h\nundo "{line}"', "undo is one word or more, then the"),
        ("blank-lease 2h", 'blank-lease 2h\nundo "own {line}"', "19:1: this row matches 'own 0"),
        ("binding *  ", "undo       ", "18:21: a fact of kind pool has no field 'address'"),
        ('[? "{name}"]', "\nundo | free {name}", "{name} is not in the row above; an undo row is"),
        ('[? "{name}"]', "\nundo | own {address} = {mac}", "and the undo row of line 18"),
        (
            " ?            |   has",
            "| has",
            "11:7: a fact of kind device has no field 'address'; it has name",
        ),
    ],
)
def test_a_mistake_is_found_when_the_sheet_is_loaded(was: str, instead: str, said: str) -> None:
    """With its place and what to write instead."""
    text = GANNET.replace(was, instead)
    assert text != GANNET
    with pytest.raises(InputError) as refused:
        load_sheet(text, "gannet.sheet")
    assert f"gannet.sheet:{said}" in str(refused.value) or said in str(refused.value)


def test_a_row_that_wants_what_a_plan_may_lack(run: Run, put: Put) -> None:
    """Is said when the sheet is tried; where the device refuses the lack, it is right."""
    strict = GANNET.replace(" ?            |   ask", "              |   ask")
    put("gannet.sheet", strict)
    tried = run("dialect", "try", "gannet.sheet")
    assert (
        "gannet.sheet:16:1: a plan's pool may have no dns, but this row requires one" in tried.err
    )
    assert "put ? into its margin" in tried.err
    put("gannet.sheet", strict.replace("blank-lease 2h", "blank-dns refused"))
    assert "may have no dns" not in run("dialect", "try", "gannet.sheet").err


def test_a_users_sheet_beside_the_plan(run: Run, put: Put, tmp_path: Path) -> None:
    """A ninth device, written and read with a sheet of its own; a broken sheet is said calmly."""
    put("dialects/gannet.sheet", GANNET)
    put(
        "plan.yaml",
        "devices: {depot: {dialect: gannet, interfaces: {yard: {address: 10.85.10.1/24}}}}\n"
        "networks:\n  yard: {subnet: 10.85.10.0/24, gateway: 10.85.10.1, served_by: depot,\n"
        "    ranges: [10.85.10.20-10.85.10.90], exclusions: [10.85.10.40], lease: 3h, dns: [],\n"
        "    bindings: [{name: lathe, mac: 00:00:5e:00:53:09, address: 10.85.10.50}]}\n",
    )
    assert run("write", "plan.yaml", "--out", ".").code == 0
    assert (tmp_path / "depot.gannet").read_text() == (
        "machine depot\n\nplug yard\n  has 10.85.10.1/24\n\nstock yard\n  of 10.85.10.0/24\n"
        "  give 10.85.10.20..10.85.10.39\n  give 10.85.10.41..10.85.10.90\n  exit 10.85.10.1\n"
        "  for 180 min\n\n"
        'own 10.85.10.50 = 00:00:5e:00:53:09 "lathe"\n'
    )
    read = run("read", "depot.gannet")
    assert read.code == 0, read.err
    assert "lease: 3h" in read.out
    put("dialects/gannet.sheet", GANNET.replace("{lease}", "{leas}"))
    broken = run("check", "plan.yaml")
    assert broken.code == 2
    assert "gannet.sheet:17:" in broken.err


def test_no_dialect_is_known_by_name() -> None:
    """Code asks traits; the names of shipped dialects stand in sheets, data and tests only."""
    source = Path(reservoir.__file__).parent
    names = re.compile("|".join(Library().names))
    code = [file for file in source.rglob("*.py") if file.parent.name != "demo"]
    of_an_example = re.compile(r'(dialect = "|dialect: )(' + names.pattern + ")")
    mentions = {file: names.findall(of_an_example.sub("", file.read_text())) for file in code}
    commands = ("read", "write", "convert", "dialect", "demo", "check", "stand_in", "new")
    shown_in_help = {f"{command}.py" for command in commands}
    assert {file.name for file, found in mentions.items() if found} <= shown_in_help


def test_a_sheet_that_cannot_be_read_back_puts_nothing_in_place(
    run: Run, put: Put, tmp_path: Path
) -> None:
    """Its DNS line is a comment too: the device would tell clients less than the plan says."""
    put("dialects/gannet.sheet", GANNET.replace("---\n", 'comment "ask"\n---\n'))
    put(
        "plan.yaml",
        "devices: {depot: {dialect: gannet, interfaces: {yard: {address: 10.85.10.1/24}}}}\n"
        "networks:\n  yard: {subnet: 10.85.10.0/24, served_by: depot, ranges: [10.85.10.20],\n"
        "    gateway: 10.85.10.1, dns: 10.84.0.53}\n",
    )
    refused = run("write", "plan.yaml")
    assert refused.code == 1
    assert (
        "reads back differently: yard: dns would be left out instead of 10.84.0.53" in refused.err
    )
    assert not (tmp_path / "configuration").exists()


def test_what_is_assumed_need_not_be_said(run: Run, put: Put, tmp_path: Path) -> None:
    """A device whose interfaces are off unless switched on, and the other way round."""
    sheet = GANNET.replace("blank-lease 2h", "blank-lease 2h\nassume interface.enabled = no")
    sheet = sheet.replace(" ?            |   has", " ? enabled=yes |   lit\n ?            |   has")
    sheet = sheet.replace("interface *   |", "device service=no | quiet\ninterface *   |")
    put("dialects/gannet.sheet", sheet)
    put(
        "plan.yaml",
        "devices: {depot: {dialect: gannet, interfaces: {yard: {}, shed: {enabled: no}}}}\n",
    )
    assert run("write", "plan.yaml", "--out", ".").code == 0
    assert (
        tmp_path / "depot.gannet"
    ).read_text() == "machine depot\nquiet\n\nplug yard\n  lit\n\nplug shed\n"
    assert "shed: {enabled: no}" in run("read", "depot.gannet").out


def test_dialects_are_listed_and_shown(run: Run, put: Put) -> None:
    """Traits in words, forms, limits and a sample; those beside the plan too."""
    put(
        "dialects/gannet.sheet", GANNET.replace("statement", 'about "a ninth device"\nstatement', 1)
    )
    listed = run("dialect", "list").out
    assert "gannet         a ninth device\n" in listed
    assert all(name in listed for name in Library().names)
    for name in Library().names:
        shown = run("dialect", "show", name).out
        sheet = Library().sheet(name)
        for trait, value in sheet.traits.items():
            assert TRAITS[trait].sentence in " ".join(shown.split())
            assert TRAITS[trait].values.get(value, value) in " ".join(shown.split())
        assert "10.84.61.30" in shown
        assert "5361" in re.sub("[:.-]", "", shown)
    assert "did you mean gannet?" in run("dialect", "show", "ganet").err


def test_a_sheet_is_tried(run: Run, put: Put) -> None:
    """On a built-in sample, whose text is shown; on a file of the user's; with what it lacks."""
    put("gannet.sheet", GANNET)
    put("box.txt", "machine box\nlogging on\nstock crew\n  of 10.85.10.0/24\n  for x min\n")
    tried = run("dialect", "try", "gannet.sheet")
    assert tried.code == 0, tried.err
    assert "  give 10.84.61.20..10.84.61.39\n" in tried.out
    assert "not covered by any row: zone name, admits\n" in tried.err
    assert "left out: zone inside: gannet has no line for it\n" in tried.err
    assert "the sample reads back correctly" in tried.err
    sample = run("dialect", "try", "gannet.sheet", "--sample", "box.txt")
    assert sample.code == 1
    assert "box.txt:5:7: 'x' is not a lease time" in sample.err
    assert "logging on" not in sample.out
    assert "box.txt:2:1: no row is for 'logging on'; if it isn't about DHCP" in sample.err
    assert "1 network from 5 lines, 0 left alone, 2 to put right" in sample.err
    put("gannet.sheet", GANNET.replace("---\n", "---\nleft | logging *\n", 1))
    sample = run("dialect", "try", "gannet.sheet", "--sample", "box.txt")
    assert "1 network from 5 lines, 1 left alone, 1 to put right" in sample.err
    put("broken.sheet", GANNET.replace("---\n", 'comment "ask"\n---\n'))
    broken = run("dialect", "try", "broken.sheet")
    assert broken.code == 1
    assert "the sample reads back differently" in broken.err
    put("wrong.sheet", GANNET.replace("{gateway}", "{gatewy}"))
    assert run("dialect", "try", "wrong.sheet").code == 2


def test_a_device_is_carried_to_another_dialect(run: Run, put: Put) -> None:
    """With everything that has no place there listed."""
    put("dialects/gannet.sheet", GANNET)
    put(
        "office.merganser",
        "appliance office\nlending ready\nbanner hello\nleg lan:\n"
        "  address 10.84.50.1 mask 255.255.255.0\n  in zone staff\n  lending ready\ndone\n"
        "lot staff:\n  leg lan\n  net 10.84.50.0 mask 255.255.255.0\n  dns 10.84.0.53\n"
        "  term 0 days 1 hours 1 minutes\n  lend 10.84.50.1 through 10.84.50.9\n"
        "  lend 10.84.50.30 throu 10.84.50.39\ndone\n",
    )
    converted = run("convert", "office.merganser", "--to", "gannet")
    assert converted.code == 1
    assert converted.out.endswith(
        "stock staff\n  of 10.84.50.0/24\n  give 10.84.50.2..10.84.50.9\n"
        "  exit 10.84.50.1\n  ask 10.84.0.53\n  for 61 min\n"
    )
    assert "lost: line 15: not understood, inside pool staff" in converted.err
    assert "since it changes nothing for clients: the zone of interface lan\n" in converted.err
    assert "pool staff: no gateway: the device offers its own address" in converted.err
    assert "1 line not about DHCP\n" in converted.err
    back = run("convert", "office.merganser", "--to", "merganserr")
    assert back.code == 2
    assert "did you mean merganser?" in back.err


def test_a_trial_fails_for_what_is_read_and_cannot_be_written(run: Run, put: Put) -> None:
    """A field that is only read; and a file that a plan of itself would change."""
    put("gannet.sheet", GANNET.replace(" ?            |   exit", "read          |   exit"))
    put("box.txt", "machine box\nstock crew\n  of 10.85.10.0/24\n  exit 10.85.10.1\n")
    tried = run("dialect", "try", "gannet.sheet", "--sample", "box.txt")
    assert tried.code == 1
    assert "box.txt:2:1: the gateway of pool crew can't be written again" in tried.err
    lines = "machine box\nstock crew\n  of 10.85.10.0/24\n  give 10.85.10.20..10.85.10.29\n"
    put("box.txt", f"{lines}own 10.85.10.25 = 00:00:5e:00:53:01\n")
    for trait, code in (("anywhere", 0), ("outside-ranges", 1)):
        put("gannet.sheet", GANNET.replace("---\n", f"trait bound-address {trait}\n---\n"))
        tried = run("dialect", "try", "gannet.sheet", "--sample", "box.txt")
        assert tried.code == code
        changes = "changes it" if code else "changes nothing"
        assert f"a plan of what is there, written into it, {changes}" in tried.err
        assert ("+  give 10.85.10.26..10.85.10.29" in tried.out) == bool(code)


def dropped(sheet: str) -> Iterator[tuple[str, str]]:
    """Each row of a sheet's body, and the sheet without it and what is inside it."""
    lines = sheet.split("\n")

    def depth(line: str) -> int:
        right = line.partition("|")[2]
        return len(right) - len(right.lstrip(" "))

    for number in range(lines.index("---") + 1, len(lines)):
        if "|" in lines[number]:
            after = number + 1
            while "|" in (lines[after : after + 1] or [""])[0] and depth(lines[after]) > depth(
                lines[number]
            ):
                after += 1
            yield lines[number], "\n".join([*lines[:number], *lines[after:]])


@pytest.mark.parametrize("name", Library().names)
def test_a_row_that_is_missing_is_missed(name: str) -> None:
    """Refused when the sheet is loaded, or told with the line that nobody understands then."""
    file = Path(reservoir.__file__).parent / "dialects" / "sheets" / f"{name}.sheet"
    sheet = load_sheet(file.read_text(), str(file))
    sample = without_what_is_refused(sheet).text
    assert not try_on(sample, sheet).problems
    used = 0
    for row, less in dropped(file.read_text()):
        try:
            without = load_sheet(less, str(file))
        except InputError:
            continue
        if read_configuration(sample, without).device != read_configuration(sample, sheet).device:
            used += 1
            assert try_on(sample, without).problems, row
    assert used > 3


@pytest.mark.parametrize(
    ("line", "why"),
    [
        ("no stock crew", "but for how it begins it is a line like: stock {name}"),
        ("dhcp-stock crew", "but for how it begins it is a line like: stock {name}"),
        ("policy crew strict", "it names pool crew"),
        ("watch 0000.5e00.5301", "it names binding"),
        ("berth quay\n  of 10.85.11.0/24\n  give 10.85.11.5..10.85.11.9",
         "the lines inside are those of: stock {name}; 2 more lines skipped"),
        ("shed quay\n  colour red\n  watch 00-00-5e-00-53-01", "it names binding"),
        ("logging on", ""),
        ("shed quay\n  colour red", ""),
    ],
)  # fmt: skip
def test_a_line_that_only_seems_to_be_about_other_things(
    line: str, why: str, run: Run, put: Put
) -> None:
    """By `read` as by `dialect try`: it counts as not understood, not as foreign."""
    put("dialects/gannet.sheet", GANNET)
    put("box.gannet", "machine box\nstock crew\n  of 10.85.10.0/24\n  exit 10.85.10.1\n"
        f"own 10.85.10.9 = 00:00:5e:00:53:01\n{line}\n")  # fmt: skip
    read = run("read", "box.gannet", "--dialect", "gannet")
    assert read.code == bool(why), read.err
    assert why in read.err
    assert ("not about DHCP" in read.err) == (not why)


def test_the_nearest_sheet_of_a_name_is_taken(
    tmp_path: Path, put: Put, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Beside the file, in its dialects/, here, and upward to the repository's root, not beyond."""
    for number, place in enumerate(
        ["dialects", "site/dialects", "site/pier", "site/pier/dialects"]
    ):
        about = f'about "number {number}"\nstatement'
        put(f"{place}/gannet.sheet", GANNET.replace("statement", about, 1))
    put("dialects/auk.sheet", GANNET.replace("gannet", "auk", 1))
    (tmp_path / "site/.git").mkdir()
    (tmp_path / "site/pier/box").mkdir()
    monkeypatch.chdir(tmp_path / "site/pier/box")
    for folder, number in ((".", 3), ("..", 2), ("../../..", 0)):
        assert Library(Path(folder)).sheet("gannet").about == f"number {number}"
    assert "auk" not in Library(Path()).names
    (tmp_path / "site/pier/dialects/gannet.sheet").unlink()
    assert Library(Path()).sheet("gannet").about == "number 1"
