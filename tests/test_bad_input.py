"""Input that can't be used: a calm list with places, exit status 2, nothing written."""

from __future__ import annotations

import os
import pty
import subprocess
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from reservoir.core.pools import Pools
from reservoir.core.problems import InputError
from reservoir.dialects.running.devices import merged_plan, with_named_zones
from reservoir.dialects.sheet import library
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.loader import load_sheet
from reservoir.dialects.trial import sample_plan
from reservoir.dialects.writing import write_device
from reservoir.files.plan_text import plan_text

Put = Callable[[str, str], Path]

TYPED = "0123456789.:/-\"'{}[]<>=,& \t\x01é\u2028#\\%~"
"""What damages a line."""

NETWORK = "reservoir: 1\nnetworks:\n  crew:\n    subnet: 10.84.30.0/24\n"


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "plan.yaml:1:1: the file is empty; a plan begins with: reservoir: 1"),
        ("# nothing\n", "the file is empty"),
        ("- a\n", "plan.yaml:1:1: expected keys and values, found a list"),
        ("networks: {}\n", "reservoir is missing; a plan begins with: reservoir: 1"),
        ("reservoir: 2\n", "plan.yaml:1:12: reservoir is '2'; it should be '1'"),
        (
            "reservoir: 1\nnetworks:\n\tcrew: {}\n",
            "plan.yaml:3:1: YAML can't be indented with tabs",
        ),
        ("reservoir: 1\nname: [a\n", "can't be read as YAML"),
        ("reservoir: 1\nname: &a x\n", "plan.yaml:2:7: anchors (&name) are not allowed"),
        ("reservoir: 1\nname: *a\n", "plan.yaml:2:7: aliases (*name) are not allowed"),
        ("reservoir: 1\nname: !!python/name:os.system x\n", "plan.yaml:2:7: tags are not allowed"),
        ("reservoir: 1\n---\nname: x\n", "a plan is one document"),
        ("reservoir: 1\nname: " + "[" * 70 + "\n", "nested more than 64 levels deep"),
        ("reservoir: 1\nname: x\nname: y\n", "plan.yaml:3:1: name is set twice; the first is"),
        ("reservoir: 1\nname:\n", "plan.yaml:2:1: name has no value"),
        ("reservoir: 1\nname: \x07\n", "the character U+0007 is not allowed in YAML"),
        ('reservoir: 1\nname: "x\\ny"\n', "plan.yaml:2:7: 'x\\ny' has invisible characters"),
        (
            "reservoir: 1\nnetwork: {}\n",
            "plan.yaml:2:1: 'network' is not a known key here (did you mean",
        ),
        ("reservoir: 1\ninclude: plan.yaml\n", "plan.yaml:2:10: plan.yaml is already part"),
        ("reservoir: 1\ninclude: [no.yaml]\n", "no.yaml:1:1: there is no such file"),
        ("reservoir: 1\nbindings_from: [no.csv]\n", "no.csv:1:1: there is no such file"),
        ("reservoir: 1\ndevices: {a: {dialect: larkspurr}}\n", "did you mean larkspur?"),
        (NETWORK + "    vlan: 5000\n", "5:11: vlan is '5000'; it should be at most 4,094"),
        (NETWORK + "    gateway: 10.84.30.300\n", "5:14: '10.84.30.300' is not an IPv4 address"),
        (NETWORK + "    gateway: 010.84.30.1\n", "has a leading zero"),
        (
            NETWORK + "    gateway: [10.84.30.1]\n",
            "expected an IPv4 address, or none, found a list",
        ),
        (NETWORK + "    ranges: most\n", "'most' is not an IPv4 address"),
        (NETWORK + "    ranges: [all]\n", "'all' is not an IPv4 address"),
        (NETWORK + "    lease: 3600\n", "did you mean 3600s?"),
        (
            NETWORK + "    served_by: pier\n",
            "there is no device 'pier'; the plan has none",
        ),
        (NETWORK + "    options: {ntpp: 1}\n", "there is no option 'ntpp' (did you mean ntp?)"),
        (NETWORK + "    options: {51: {u32: 9}}\n", "option 51 can't be set here: use lease"),
        (NETWORK + "    options: {200: 1}\n", "option 200 has no registered type"),
        (
            NETWORK + "    bindings: [{address: 10.84.30.9}]\n",
            "a binding has either mac or client_id",
        ),
        (
            NETWORK + "    exclusions: [{rang: 10.84.30.9}]\n",
            "'rang' is not a known key here (did you",
        ),
        (NETWORK + "    demand: {devices: -1}\n", "it should be at least 0"),
        (NETWORK + "accept: [{rule: pool-emty, at: x, because: y}]\n", "did you mean pool-empty?"),
    ],
)
def test_a_broken_plan_gets_a_calm_list(text: str, said: str, run: Run, tmp_path: Path) -> None:
    """What was found, what was expected, the nearest right word, and where."""
    (tmp_path / "plan.yaml").write_text(text, encoding="utf-8")
    ended = run("check", "plan.yaml")
    assert ended.code == 2
    assert said in ended.err
    assert ended.out == ""
    assert run("write", "plan.yaml").code == 2
    assert not (tmp_path / "configuration").exists()


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b"\x7fELF\0\0", "plan.yaml:1:1: the file is binary, not text"),
        (b"reservoir: 1\nname: caf\xe9\n", "plan.yaml:2:10: the text is not UTF-8: byte 0xe9"),
    ],
)
def test_what_is_not_text(data: bytes, said: str, run: Run, tmp_path: Path) -> None:
    """Binary files and other encodings are named, with the place of the first wrong byte."""
    (tmp_path / "plan.yaml").write_bytes(data)
    ended = run("check", "plan.yaml")
    assert ended.code == 2
    assert said in ended.err


def test_a_byte_order_mark_and_windows_line_ends_are_no_fault(run: Run, tmp_path: Path) -> None:
    """They are how some editors save."""
    text = NETWORK.replace("\n", "\r\n")
    (tmp_path / "plan.yaml").write_bytes(b"\xef\xbb\xbf" + text.encode())
    assert run("check", "plan.yaml").code == 0


@pytest.mark.parametrize("file", [".", "missing.yaml"])
def test_what_is_not_a_file(file: str, run: Run) -> None:
    """A folder, or nothing at all."""
    assert run("check", file).code == 2


def test_everything_wrong_is_listed_at_once(run: Run, put: Put) -> None:
    """In all files of the plan, sorted by place, with their number."""
    put(
        "plan.yaml",
        NETWORK + "    gatewy: 1\n    lease: x\n  shop: {subnet: 10.84.31.0/24, served_by: pier}\n"
        "devices: {peer: {}}\nbindings_from: [b.csv]\ninclude: [parts.yaml]\n",
    )
    put("b.csv", "network,name,mac,address\ncrew,a,00:00:5e:00:53:01,10.84.30.9\nshp,a,x,y\n")
    put("parts.yaml", "networks: {shop: {subnet: 10.84.32.0}}\n")
    ended = run("check", "plan.yaml")
    assert ended.err.splitlines() == [
        "b.csv:3:1: the plan has no network 'shp' (did you mean shop?)",
        "b.csv:3:7: 'x' is not a MAC address: 'x' is not a hexadecimal digit",
        "b.csv:3:9: 'y' is not an IPv4 address: it has 1 part, not four",
        "parts.yaml:2:12: shop is in two files; the first is plan.yaml:7:3",
        "parts.yaml:2:27: '10.84.32.0' has no prefix length: write it like 10.84.32.0/24",
        "plan.yaml:5:5: 'gatewy' is not a known key here (did you mean gateway?)",
        "plan.yaml:6:12: 'x' is not a duration: write it like 90s, 45m, 12h, 1d12h or infinite",
        "plan.yaml:7:44: there is no device 'pier' (did you mean peer?)",
        "",
        "8 problems; nothing was done.",
    ]


@pytest.mark.parametrize(
    ("table", "said"),
    [
        ("", "b.csv:1:1: the table is empty; its first line should be: network,name,mac,address"),
        (
            "network,name,mac,adress\n",
            "'adress' is not a column of this table (did you mean address",
        ),
        ("network,name,mac\n", "the column address is missing"),
        ("network,name,mac,address\ncrew,a,b\n", "b.csv:2:1: the row has 3 cells"),
        ("network,name,mac,address\ncrw,a,00:00:5e:00:53:01,10.84.30.9\n", "did you mean crew?"),
        (
            "network,name,mac,address\ncrew,a,00:00:5e:00:53:0,010.84.30.9\n",
            "b.csv:2:8: '00:00:5e:00:53:0' is not a MAC address: it has 11 hexadecimal digits",
        ),
        (
            "network,name,mac,address\ncrew,a,00:00:5e:00:53:0,010.84.30.9\n",
            "b.csv:2:25: '010.84.30.9' is not an IPv4 address: 010 has a leading zero",
        ),
        ('network,name,mac,address\ncrew,"a\n', "can't be read as CSV"),
        ("network,name,mac,address\ncrew,a\x1b[1m,00:00:5e:00:53:01,10.84.30.9\n", "b.csv:2:6:"),
    ],
)
def test_a_broken_table_gets_a_calm_list(table: str, said: str, run: Run, put: Put) -> None:
    """Every wrong cell with its line and column."""
    put("plan.yaml", NETWORK + "bindings_from: [b.csv]\n")
    put("b.csv", table)
    ended = run("check", "plan.yaml")
    assert ended.code == 2
    assert said in ended.err
    assert "\x1b" not in ended.err


def test_a_wrong_call_is_said_shortly(run: Run) -> None:
    """Unknown commands and options name the nearest right one; each command has its help."""
    assert "Did you mean check?" in run("chek").err
    assert run("check").code == 2
    assert run("check", "x.yaml", "--fromat", "json").code == 2
    assert "reservoir write ferry-line.yaml" in run("write", "--help").out
    assert "gateway-in-pool" in run("explain").out
    assert "did you mean" in run("explain", "gateway-in-pol").err


@pytest.mark.parametrize(
    ("command", "file", "said"),
    [
        ("read", "plan.yaml", "plan.yaml:1:1: this is a plan, not a device's configuration"),
        ("check", "site", "holds a plan, not a device's configuration; give site/plan.yaml"),
        ("check", "machines.csv", "name it in a plan: bindings_from: [machines.csv]"),
        ("check", "notes.txt", "notes.txt:1:1: neither a plan nor configuration in a known"),
    ],
)
def test_what_is_no_configuration(command: str, file: str, said: str, run: Run, put: Put) -> None:
    """A file that belongs to a plan, or to nothing that we know, is told from configuration."""
    put("plan.yaml", NETWORK)
    put("site/plan.yaml", NETWORK)
    put("machines.csv", "name,network,address,mac\ntill,crew,10.84.30.9,00:00:5e:00:53:01\n")
    put("notes.txt", "ask the harbour office\n")
    ended = run(command, file)
    assert (ended.code, ended.out) == (2, "")
    assert said in ended.err


def test_what_the_system_refuses_is_no_defect(
    installed: Path, run: Run, put: Put, tmp_path: Path
) -> None:
    """A name that is too long, one that isn't UTF-8, a stream without an end or closed."""
    plan = put("plan.yaml", NETWORK.removeprefix("reservoir: 1\n"))
    long = run("check", "n" * 300)
    assert long.code == 2
    assert "File name too long" in long.err
    assert "/dev/zero:1:1: the file is binary, not text" in run("check", "/dev/zero").err
    odd = os.fsdecode(b"odd\xff.yaml")
    (tmp_path / odd).write_text(plan.read_text())
    for form in ("text", "json", "sarif", "junit", "markdown"):
        assert run("check", odd, "--format", form, "--out", "out").code == 0, form
    for closed in ("<&-", ">&-", "2>&-"):
        command = f"{installed} check plan.yaml {closed}"
        done = subprocess.run(["sh", "-c", command], cwd=tmp_path, capture_output=True, check=False)
        assert done.returncode == 0, closed


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("\n" * 100_000, "neither a plan nor configuration"),
        ('{"a": [' + "{}," * 50_000 + "{}]}", "neither a plan nor configuration"),
        ("x" * (16 * 2**20 + 1) + "\n", "device.txt:1:1: the line is longer than 16 MiB"),
        ("\n" + "{" * 200_000, "neither a plan nor configuration"),
        ("dns " * 100_000, "neither a plan nor configuration"),
    ],
    ids=["blank lines", "items in a line", "a long line", "brackets", "words"],
)
def test_what_goes_on_and_on_is_refused_all_the_same(
    text: str, said: str, run: Run, tmp_path: Path
) -> None:
    """In time that grows with it: each of these once took hours, or all the memory there was."""
    (tmp_path / "device.txt").write_text(text)
    ended = run("check", "device.txt")
    assert ended.code == 2
    assert said in ended.err


@pytest.mark.parametrize(
    "call",
    [
        "check plan.yaml -o plan.yaml",
        "check plan.yaml -o other-name.yaml",
        "check plan.yaml -o clients.csv",
        "compare plan.yaml plan.yaml -o plan.yaml",
        "rehearse plan.yaml --clients 2 --capture plan.yaml",
        "rehearse plan.yaml --clients 2 --leases-out clients.csv",
        "map plan.yaml -o plan.yaml",
        "report plan.yaml -o ./plan.yaml",
        "read pier.larkspur -o pier.larkspur",
        "convert pier.larkspur --to fulmar -o pier.larkspur",
        "leases list.csv --plan plan.yaml -o list.csv",
    ],
)
def test_no_output_takes_the_place_of_an_input(
    call: str, run: Run, put: Put, tmp_path: Path
) -> None:
    """By no name: neither of the plan, nor of its table, nor of what was read."""
    plan = "reservoir: 1\nbindings_from: [clients.csv]\ndevices:\n  pier: {dialect: larkspur, "
    plan += "interfaces: {deck: {address: 10.84.30.1/24}}}\n" + NETWORK.partition("\n")[2]
    put("plan.yaml", f"{plan}    gateway: 10.84.30.1\n    ranges: [10.84.30.20-10.84.30.30]\n")
    put("clients.csv", "network,name,mac,address\ncrew,bell,00:00:5e:00:53:01,10.84.30.9\n")
    put("pier.larkspur", "unit pier\npool crew\n  subnet 10.84.30.0/24\n")
    put("list.csv", "mac,address\n00:00:5e:00:53:01,10.84.30.9\n")
    (tmp_path / "other-name.yaml").symlink_to("plan.yaml")
    before = {path: path.read_bytes() for path in tmp_path.iterdir()}
    ended = run(*call.split())
    assert "this file is an input, and would be overwritten" in ended.err
    assert ended.code == 2
    assert {path: path.read_bytes() for path in tmp_path.iterdir()} == before


def test_what_a_pipe_gives_is_read_whole(run: Run, put: Put, tmp_path: Path) -> None:
    """Though the file is looked at first, to see what it is."""
    pools = "".join(
        f"pool crew{n}\n  withhold 10.84.{n}.1\n  gateway 10.84.{n}.1\n  subnet 10.84.{n}.0/24\n"
        + f"# {'-' * 900}\n"
        for n in range(120)
    )
    put("pier.larkspur", f"unit pier\n{pools}")
    read = run("read", "pier.larkspur")
    assert read.err.count("120 networks") == 1
    os.mkfifo(tmp_path / "pipe")
    with ThreadPoolExecutor(1) as beside:
        beside.submit((tmp_path / "pipe").write_text, f"unit pier\n{pools}")
        assert run("read", "pipe").out == read.out
    with ThreadPoolExecutor(1) as beside:
        beside.submit((tmp_path / "pipe").write_text, f"unit pier\n{pools}")
        assert "No difference in 120 networks" in run("compare", "pipe", "pier.larkspur").out


def test_a_pipe_among_files_is_waited_for_by_nobody(run: Run, put: Put, tmp_path: Path) -> None:
    """Neither one among devices' configuration, nor one that is called like a sheet."""
    for folder in ("running", "running/dialects"):
        (tmp_path / folder).mkdir()
    put("running/pier.larkspur", "unit pier\npool crew\n  subnet 10.84.30.0/24\n")
    os.mkfifo(tmp_path / "running" / "shed.larkspur")
    os.mkfifo(tmp_path / "running" / "dialects" / "shed.sheet")
    (tmp_path / "running" / "dialects" / "odd.sheet").write_bytes(b"sheet odd\n\xff")
    assert "pier, larkspur" in run("read", "running/pier.larkspur").err
    assert "pier, larkspur" in run("read", "running").err
    assert (
        "odd.sheet:2:1: the sheet is not UTF-8"
        in run("dialect", "list").err + run("read", "running/pier.larkspur", "--dialect", "odd").err
    )


def test_a_naming_convention_takes_time_in_step_with_the_names(run: Run, put: Put) -> None:
    """And one that can't is refused where it stands."""
    checks = 'reservoir: 1\nchecks: {names: {devices: "%s"}}\n'
    put("plan.yaml", checks % "(a+)+b" + f"devices: {{{'a' * 60}: {{}}, aab: {{}}}}\n")
    ended = run("check", "plan.yaml", "--select", "naming-convention")
    assert ended.out.count("doesn't match the convention") == 1
    for pattern, said in (("(?=a)", "look-around"), ("a(", "unclosed group"), ("a)|(b", "group")):
        put("plan.yaml", checks % pattern)
        ended = run("check", "plan.yaml")
        assert ended.code == 2
        assert ended.err.startswith("plan.yaml:2:27: ")
        assert said in ended.err


@pytest.mark.parametrize(
    ("was", "put_there", "said"),
    [
        ('path      " :: "', 'path " "', "nothing stands between what this keeps apart"),
        (
            "hands requests to {relay_to}",
            "hands requests to {relay_to} in {vrf}",
            "a row that adds the items of a list has one slot",
        ),
        ("| box is {name}", "|  ", "a row has text right of its '|'"),
    ],
)
def test_a_broken_sheet_gets_a_calm_list(
    was: str, put_there: str, said: str, run: Run, tmp_path: Path
) -> None:
    """With the place of each mistake."""
    sheet = Path(library.__file__).parents[1] / "sheets" / "tamarack.sheet"
    text = sheet.read_text()
    assert was in text
    (tmp_path / "mine.sheet").write_text(text.replace(was, put_there))
    tried = run("dialect", "try", "mine.sheet")
    assert tried.code == 2
    assert said in tried.err
    assert "mine.sheet:" in tried.err


@pytest.mark.parametrize("dialect", Library().names)
@meets("a text that is read")
@given(data=st.data())
@settings(max_examples=examples(60))
def test_whatever_is_read_of_a_damaged_text_is_a_plan(
    dialect: str, data: st.DataObject, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """It loads again, whatever names and references the damage has made."""
    sheet = Library().sheet(dialect)
    lines = write_device(Pools(sample_plan(sheet)), "sample-box", sheet).text.split("\n")
    for _ in range(data.draw(st.integers(1, 3))):
        at = data.draw(st.integers(0, len(lines) - 1))
        how = data.draw(st.sampled_from(["lose", "double", "join", "long", "type"]))
        place = data.draw(st.integers(0, len(lines[at])))
        typed = data.draw(st.sampled_from(TYPED))
        lines[at : at + 1] = {
            "lose": [],
            "double": [lines[at]] * 2,
            "join": [f"{lines[at]} {lines[0]}"],
            "long": [lines[at].replace("port", "port" * 300)],
            "type": [lines[at][:place] + typed + lines[at][place + 1 :]],
        }[how]
        lines = lines or [""]
    folder = tmp_path_factory.mktemp("damaged")
    (folder / "device").write_text("\n".join(lines))
    try:
        read = reservoir.read(str(folder / "device"), dialect)
    except InputError:
        return
    met("a text that is read")
    plan = with_named_zones(merged_plan([one.lifted for one in read]))
    (folder / "plan.yaml").write_text(plan_text(plan))
    assert set(reservoir.load(str(folder / "plan.yaml")).plan.networks) == set(plan.networks)


def test_a_file_is_part_of_a_plan_once_however_it_is_spelled(run: Run, put: Put) -> None:
    """Files that include each other by other paths come to an end."""
    put("a.yaml", "reservoir: 1\ninclude: [./b.yaml]\nnetworks: {}\n")
    put("b.yaml", "include: [././a.yaml, ./././b.yaml]\n")
    ended = run("check", "a.yaml")
    assert ended.code == 2
    assert "a.yaml is already part of the plan" in ended.err
    assert "b.yaml is already part of the plan" in ended.err


def test_a_remark_is_no_border_between_files(run: Run, tmp_path: Path) -> None:
    """In a folder that is one device's configuration; else it could name a file elsewhere."""
    folder = tmp_path / "host"
    folder.mkdir()
    (folder / "50-lan.network").write_text("[Match]\nName=lan\n# file: ../out\n[Network]\n")
    ended = run("read", "host", "--dialect", "linux-host")
    assert ended.code == 2
    assert "50-lan.network:3:1: '# file:' begins a file of its own" in ended.err


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("plan.yaml", 'reservoir: 1\nnetworks:\n  "a\\e[31m": {subnet: 1, subnet: 2, "k\\e[3m"}\n'),
        ("plan.yaml", "reservoir: 1\nnetworks: !<\x1b[31m> {}\n"),
        ("e.fulmar", '{"site": "x\x1b[31m", "scopes": [{"name": "a", "\x1b[3mo": 1, "net": 2}]}'),
        ("e.larkspur", "unit x\npool a\n  withhold 10.84.\x1b[31m\n  \x1b[3m subnet\n"),
        ("\x1b[31m.yaml", "reservoir: 1\nnetworks: {a: {subnet: 10.84.0.0/24, ranges: all}}\n"),
    ],
)
def test_nothing_that_is_shown_moves_the_terminal(
    name: str, text: str, installed: Path, tmp_path: Path
) -> None:
    """Control characters of a file or of its name are written as their numbers."""
    (tmp_path / name).write_text(text)
    for command in ("check", "read", "write", "mend"):
        dialect = ["--dialect", name.partition(".")[2]] if command == "read" else []
        shown = under_a_terminal([str(installed), command, name, *dialect], tmp_path)
        assert shown
        assert "\x1b" not in shown


def under_a_terminal(arguments: list[str], folder: Path) -> str:
    """All that a command shows on a terminal."""
    ours, its = pty.openpty()
    environment = {**os.environ, "NO_COLOR": "1"}
    ran = subprocess.Popen(
        arguments, cwd=folder, stdin=its, stdout=its, stderr=its, env=environment
    )
    os.close(its)
    shown = b""
    while True:
        try:
            part = os.read(ours, 65_536)
        except OSError:  # the terminal is gone with the program
            break
        if not part:
            break
        shown += part
    ran.wait()
    os.close(ours)
    return shown.decode()


def test_a_broken_sheet_keeps_no_other_dialect_from_being_recognised(run: Run, put: Put) -> None:
    """It is named where nothing else makes sense of a file."""
    put("dialects/broken.sheet", "sheet broken\ncarrier nonsense\n---\nfoo | x\n")
    put("pier.cfg", "unit pier\npool crew\n  withhold 10.84.30.1\n  subnet 10.84.30.0/24\n")
    put("other.cfg", "neither this nor that\n")
    read = run("read", "pier.cfg")
    assert "pier, larkspur" in read.err
    assert read.err.count("broken.sheet") == 1
    assert "dialects/broken.sheet:2:1: there is no carrier 'nonsense'" in read.err
    assert "and 1 more mistake; broken is left out" in run("dialect", "list").err
    ended = run("read", "other.cfg")
    assert ended.code == 2
    assert "dialects/broken.sheet:2:1: there is no carrier" in ended.err


@meets("a sheet", "a sheet with mistakes")
@given(data=st.data())
@settings(max_examples=examples(300), deadline=None)
def test_a_damaged_sheet_is_a_sheet_or_has_its_mistakes_named(data: st.DataObject) -> None:
    """Whatever stands in it: never an exception of another kind."""
    name = data.draw(st.sampled_from(Library().names))
    lines = (Path(library.__file__).parent.parent / f"sheets/{name}.sheet").read_text().split("\n")
    for _ in range(data.draw(st.integers(1, 4))):
        at, other = (data.draw(st.integers(0, len(lines) - 1)) for _ in range(2))
        place = data.draw(st.integers(0, len(lines[at])))
        typed = data.draw(st.sampled_from('{}[]?*|:"\\9 a'))
        end = lines[other].rpartition("|")[2].strip()
        lines[at] = data.draw(
            st.sampled_from(
                [
                    lines[at][:place] + typed + lines[at][place:],
                    lines[at][:place] + typed + lines[at][place + 1 :],
                    f"{lines[at]} {end}",
                    f"{lines[at]} [? {end}",
                    lines[other],
                ]
            )
        )
    try:
        load_sheet("\n".join(lines), "damaged.sheet")
    except InputError as error:
        met("a sheet with mistakes")
        assert all(problem.place.file == "damaged.sheet" for problem in error.problems)
    else:
        met("a sheet")
