"""What is said about the program is true: README, CONTRIBUTING, help texts, the house's shape."""

from __future__ import annotations

import ast
import os
import pickle
import re
import shlex
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

import reservoir
from conftest import Run
from reservoir.cli import sheet_page
from reservoir.cli.commands import COMMANDS
from reservoir.cli.manual_page import page
from reservoir.core.checks import rules
from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.notations import CARRIERS
from reservoir.dialects.parse.reader import read_nodes
from reservoir.dialects.sheet.header import HEADER_WORDS
from reservoir.dialects.sheet.layout_words import LAYOUT, OF_ANY_TEXT
from reservoir.dialects.sheet.loader import load_sheet
from reservoir.testing import check_dialect

ROOT = Path(__file__).resolve().parent.parent
SOURCES = sorted((ROOT / "src").rglob("*.py"))

Put = Callable[[str, str], Path]


def blocks(file: str, language: str) -> list[str]:
    """The fenced blocks of a document in a language."""
    return re.findall(rf"```{language}\n(.*?)```", (ROOT / file).read_text(), re.DOTALL)


def test_the_readmes_plan_is_a_plan(run: Run, put: Put) -> None:
    """It loads and is without findings."""
    (plan,) = blocks("README.md", "yaml")
    put("plan.yaml", plan)
    put("bindings.csv", "network,name,mac,address\n")
    put("inventory.csv", "network,name,address\n")
    checked = run("check", "plan.yaml", "--fail-on", "advice")
    assert checked.code == 0, checked.out + checked.err


@pytest.mark.parametrize("file", ["README.md", "bench/README.md"])
def test_the_numbers_of_rules_are_those_of_the_program(file: str) -> None:
    """Wherever a document counts all of them."""
    counted = re.findall(
        r"\[(\d+) rules\]|of the (\d+)\s+that `check` asks", (ROOT / file).read_text()
    )
    assert counted
    assert {int(number) for pair in counted for number in pair if number} == {len(rules())}


def test_the_readmes_commands_and_files_exist(run: Run) -> None:
    """Each command has a help page; each link leads somewhere; `make` has each goal."""
    readme = (ROOT / "README.md").read_text()
    makefile = (ROOT / "Makefile").read_text()
    for line in "".join(blocks("README.md", "console")).splitlines():
        words = shlex.split(line.removeprefix("$ "), comments=True)
        if words[:1] == ["reservoir"]:
            assert run(words[1], "--help").code == 0
        elif words[:1] == ["make"]:
            assert f"\n{words[1]}:" in makefile
    for link in re.findall(r"\]\((?!http)([^)]+)\)", readme):
        assert (ROOT / link).exists(), link


def test_the_first_hour_goes_as_it_is_told(
    tmp_path: Path, network_service: None, installed: Path
) -> None:
    """Each command, one after the other, with its exit status; what is shown of it is printed."""
    shutil.copytree(ROOT / "src/reservoir/demo/running", tmp_path / "ferry-line/running")
    page = (ROOT / "docs/first-hour.md").read_text()
    told = re.findall(r"```console\n(.*?)```\n(?:\n```text\n(.*?)```)?", page, re.DOTALL)
    commands = "".join(block for block, _ in told).splitlines()
    assert sum(command.startswith("$ reservoir ") for command in commands) > 15
    at = tmp_path
    for block, printed in told:
        said = ""
        for line in block.splitlines():
            command, _, remark = line.removeprefix("$ ").partition("   # exit status ")
            if command.startswith("cd "):
                at /= command.removeprefix("cd ")
                continue
            wired = f"{ETH0} {command}" if "--on eth0" in command else command
            ended = subprocess.run(
                ["unshare", "-n", "sh", "-c", wired] if wired != command else ["sh", "-c", command],
                cwd=at, capture_output=True, text=True, check=False,
                env={**os.environ, "PATH": f"{installed.parent}:{os.environ['PATH']}"},
            )  # fmt: skip
            assert ended.returncode == int(remark or 0), command + ended.stdout + ended.stderr
            said += ended.stdout + ended.stderr
        for line in printed.splitlines():
            assert line in said, line + said


ETH0 = (
    "ip link add eth0 type veth peer name other; ip link set eth0 up; ip link set other up; "
    "ip addr add 10.84.1.200/25 dev eth0;"
)
"""An interface in a network namespace, where nobody answers."""


def test_the_documentation_is_a_site(tmp_path: Path) -> None:
    """It builds without a warning; each page is in it; every link and picture leads somewhere."""
    built = subprocess.run(
        [Path(sys.executable).parent / "mkdocs", "build", "--quiet", "--strict",
         "--site-dir", tmp_path / "site"],
        cwd=ROOT, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert (built.returncode, built.stderr) == (0, "")
    pages = {file.name: file.read_text() for file in (tmp_path / "site").glob("*.html")}
    assert {f"{source.stem}.html" for source in (ROOT / "docs").glob("*.md")} <= {*pages}
    links = 0
    for name, html in pages.items():
        for link in re.findall(r'(?:href|src)="([^"]+)"', html if name != "404.html" else ""):
            file, _, anchor = link.partition("#")
            if ":" in file or file == ".":
                continue
            assert (tmp_path / "site" / (file or name)).exists(), f"{name}: {link}"
            target = pages.get(file or name, "")
            assert not (anchor and target) or f'id="{anchor}"' in target, f"{name}: {link}"
            links += 1
        assert "https://" not in re.sub(r"<a [^>]*>", "", html), name  # nothing is fetched
    assert links > 100


def test_the_python_examples_do_what_they_say(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """Run one after the other on the demo's plan, they print what stands below each of them.

    One that begins with the name of a file is that file.
    """
    shutil.copytree(ROOT / "src/reservoir/demo/right", tmp_path, dirs_exist_ok=True)
    monkeypatch.chdir(tmp_path)
    monkeypatch.syspath_prepend(str(tmp_path))
    names: dict[str, object] = {}
    pairs = re.findall(
        r"```python\n(.*?)```\n(?:\n```text\n(.*?)```)?",
        (ROOT / "docs/python.md").read_text(),
        re.DOTALL,
    )
    assert len(pairs) > 4
    for code, printed in pairs:
        if file := re.match(r"# (\w+\.py)\n", code):
            Path(file[1]).write_text(code)
            continue
        exec(code, names)  # noqa: S102 - our own page
        assert capsys.readouterr().out == printed


@pytest.mark.parametrize(
    ("call", "message"),
    [
        ("plan.check(select=['gateway-in-pol'])", "there is no rule or family 'gateway-in-pol'"),
        ("plan.check(ignore=['gateway'])", "(did you mean gateways?)"),
        ("plan.write(['office'])", "there is no device 'office'"),
        ("plan.write(into={'office': ''})", "there is no device 'office'"),
    ],
)
def test_unknown_names_are_errors_in_python_too(call: str, message: str) -> None:
    """As they are in the shell; a mistyped name must not look like a clean plan."""
    plan = reservoir.load({"reservoir": 1, "networks": {"crew": {"subnet": "10.84.30.0/24"}}})
    with pytest.raises(reservoir.UnknownNameError) as raised:
        eval(call, {"plan": plan})  # noqa: S307 - written above
    assert message in str(pickle.loads(pickle.dumps(raised.value)))  # noqa: S301 - our own


def test_an_error_comes_whole_out_of_another_process() -> None:
    """With its problems and their places."""
    with pytest.raises(reservoir.InputError) as raised:
        reservoir.loads("reservoir: 1\nnetwork: {}\n")
    again = pickle.loads(pickle.dumps(raised.value))  # noqa: S301 - our own
    assert again.problems == raised.value.problems
    assert str(again) == str(raised.value)


def test_the_contributing_example_is_a_rule(run: Run) -> None:
    """The class shown there is one that the program has."""
    (example,) = blocks("CONTRIBUTING.md", "python")
    name = re.search(r"class (\w+)\(Rule\)", example)
    assert name is not None
    rule = re.sub("(?<!^)(?=[A-Z])", "-", name[1]).lower()
    assert run("explain", rule).code == 0


def test_the_tables_of_the_sheet_language_are_those_of_the_code() -> None:
    """docs/sheet-tables.md is what `make manual` makes."""
    assert (ROOT / "docs/sheet-tables.md").read_text() == sheet_page.page()


def test_the_manual_page_is_that_of_the_commands() -> None:
    """`make manual` has been run; each command and option is in it; roff has no complaint."""
    text = (ROOT / "docs" / "reservoir.1").read_text()
    assert text == page()
    for name in COMMANDS:
        assert f"\n.SS {name.replace('-', chr(92) + '-')} " in text
    assert r"\fB\-\-free\-vlans\fR" in text
    if shutil.which("groff") is None:
        pytest.skip("groff is not installed, so nobody looks at the manual page's roff")
    shown = subprocess.run(
        ["groff", "-man", "-Tutf8", "-ww", "-z", ROOT / "docs" / "reservoir.1"],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert shown.stderr == ""


def test_the_shell_completes_commands_options_and_names(run: Run, put: Put) -> None:
    """Networks of the plan that is on the line, for each command that takes one."""
    put("plan.yaml", "networks: {crew: {subnet: 10.84.30.0/24}, cabin: {subnet: 10.84.31.0/24}}\n")

    def completed(line: str) -> list[str]:
        words = line.split(" ")
        asked = {"COMP_WORDS": line, "COMP_CWORD": str(len(words) - 1)}
        out = run(_RESERVOIR_COMPLETE="bash_complete", **asked).out
        return [one.partition(",")[2] for one in out.splitlines()]

    assert set(COMMANDS) <= set(completed("reservoir "))
    for command in COMMANDS:
        assert "--help" in completed(f"reservoir {command} --")
    for command in ("size", "map", "rehearse"):
        assert completed(f"reservoir {command} plan.yaml --network c") == ["crew", "cabin"]
    assert completed("reservoir check --select gateway-in") == ["gateway-in-pool"]
    assert completed("reservoir new --into plan.yaml --dialect lark") == ["larkspur"]


@pytest.mark.parametrize("command", COMMANDS)
def test_help_shows_an_example(command: str, run: Run) -> None:
    """Each command's help has a line that can be typed."""
    shown = run(command, "--help")
    assert shown.code == 0
    assert f"  reservoir {command} " in shown.out or f"  reservoir {command}\n" in shown.out
    assert run("--help").out.count(f"\n  {command} ") == 1


def test_the_house_keeps_its_shape() -> None:
    """No file grows past 450 lines, few functions past fifty; no drawer called utils."""
    lengths = []
    for file in SOURCES:
        text = file.read_text()
        assert text.count("\n") <= 450, f"{file.name} is too long"
        assert file.stem not in {"utils", "helpers", "common", "misc"}
        functions = [
            node
            for node in ast.walk(ast.parse(text))
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef)
        ]
        lengths += [(node.end_lineno or 0) - node.lineno + 1 for node in functions]
    assert sum(length > 50 for length in lengths) <= 0.02 * len(lengths)


def test_the_plan_of_the_page_is_sound(run: Run, put: Put) -> None:
    """It shows every key that the page tells of, and has no findings."""
    (plan,) = blocks("docs/plan.md", "yaml")
    put("plan.yaml", plan)
    checked = run("check", "plan.yaml", "--fail-on", "advice")
    assert checked.code == 0, checked.out
    assert "\n1 accepted in 4 networks" in checked.out


def test_the_guides_sheet_is_a_sheet(run: Run, put: Put, tmp_path: Path) -> None:
    """Copied out of the guide it works, on the guide's own configuration too."""
    (sheet,), (sample,) = blocks("docs/sheets.md", "sheet"), blocks("docs/sheets.md", "text")
    put("dialects/plover.sheet", sheet)
    put("plover.txt", sample)
    check_dialect(tmp_path / "dialects" / "plover.sheet", [tmp_path / "plover.txt"])
    tried = run("dialect", "try", "dialects/plover.sheet", "--sample", "plover.txt")
    assert tried.code == 0, tried.err
    assert "plover.txt: a plan of what is there, written into it, changes nothing." in tried.err
    assert "clock" not in tried.out
    assert "1 left alone, 0 to put right" in tried.err
    read = run("read", "plover.txt")
    assert "ranges: [10.84.30.20-10.84.30.99]" in read.out
    (part,), (printed,) = blocks("docs/sheets.md", "part"), blocks("docs/sheets.md", "printed")
    put("dialects/plover.sheet", f"{sheet}\n{part}")
    put("guests.txt", printed)
    tried = run("dialect", "try", "dialects/plover.sheet", "--leases", "guests.txt")
    assert tried.code == 0, tried.err
    assert "2 leases with address, mac, name, expires" in tried.err
    assert "declined: another machine has it): 10.84.30.22" in tried.err
    put("broken.sheet", sheet.replace("comment   ", 'comment "door" '))
    with pytest.raises(AssertionError, match="the sample"):
        check_dialect(tmp_path / "broken.sheet")


NINTH = ROOT / "tests" / "ninth"


def test_a_ninth_device_by_the_guide_alone(run: Run) -> None:
    """Blocks that all begin with one word, those not about DHCP too; in bulk or not."""
    check_dialect(NINTH / "avocet.sheet", [NINTH / "avocet.txt"])
    tried = run("dialect", "try", f"{NINTH}/avocet.sheet", "--sample", f"{NINTH}/avocet.txt")
    assert tried.code == 0, tried.err
    assert "a plan of what is there, written into it, changes nothing" in tried.err
    assert "1 network from 27 lines, 4 left alone, 0 to put right" in tried.err
    sheet = load_sheet((NINTH / "avocet.sheet").read_text(), "avocet.sheet")
    text = (NINTH / "avocet.txt").read_text()
    for some in (text, text * 30, text.replace("begin", "")):
        assert read_nodes(some, sheet, in_bulk=True)[0] == read_nodes(some, sheet, in_bulk=False)[0]


def test_the_guide_names_every_kind_field_carrier_and_word() -> None:
    """What the sheet language has, the guide tells of."""
    guide = (ROOT / "docs" / "sheets.md").read_text()
    words = {word for kind in KINDS.values() for word in kind.fields} - {"file"}
    words |= KINDS.keys() | CARRIERS.keys()
    words |= HEADER_WORDS.keys() | LAYOUT.keys() | OF_ANY_TEXT.keys()
    words -= {"file"}
    assert {word for word in words if not re.search(rf"\b{word}\b", guide)} == set()
