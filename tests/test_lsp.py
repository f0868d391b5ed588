"""``lsp``: what an editor is shown and offered, held to what the other commands say."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st
from lsprotocol import types

import reservoir
from conftest import Run, examples, program
from editor import Editor
from met import meets, met
from oracle import plans, text_of
from reservoir.files import yaml_tree
from reservoir.files.kept import Kept

DEMO = Path(reservoir.__file__).parent / "demo"


@pytest.fixture(scope="module")
def editor() -> Iterator[Editor]:
    """An editor that stays open: nothing that is typed in it may end the server."""
    opened = Editor()
    yield opened
    opened.end()


@pytest.fixture
def hurried(tmp_path: Path) -> Path:
    """A plan with mistakes."""
    shutil.copytree(DEMO / "hurried", tmp_path, dirs_exist_ok=True)
    return tmp_path / "ferry-line.yaml"


@pytest.fixture
def right(tmp_path: Path) -> Path:
    """A plan without mistakes."""
    shutil.copytree(DEMO / "right", tmp_path, dirs_exist_ok=True)
    return tmp_path / "ferry-line.yaml"


Said = Counter[tuple[str, int, str]]
"""What is said, by file, line and rule; of an input that can't be used, with the message."""


def said_by_check(folder: Path, file: str) -> Said:
    """What ``check`` says of a file."""
    ended = program(folder, "check", file, "--format", "json")
    if ended.code == 2:
        parts = [line.split(":", 3) for line in ended.err.split("\n\n")[0].splitlines()]
        return Counter((Path(p[0]).name, int(p[1]), p[3].strip()) for p in parts)
    found = json.loads(ended.out)["findings"]
    return Counter((Path(each["file"]).name, each["line"], each["rule"]) for each in found)


def said_by(editor: Editor, file: Path) -> Said:
    """What the editor is shown: findings, and beside them what follows from each."""
    found: Said = Counter()
    for path in [file, *file.parent.glob("*.csv"), *file.parent.glob("more/*.yaml")]:
        for each in editor.shown(path, of=file):
            message = each.message.replace(str(path.parent) + "/", "")
            what = str(each.code) if each.code is not None else message
            found[path.name, each.range.start.line + 1, what] += 1
            for other in each.related_information or ():
                line = other.location.range.start.line + 1
                rule = other.message.removeprefix("causes ").partition(":")[0]
                found[Path(other.location.uri).name, line, rule] += 1
    return found


@meets("unusable", "consequences")
@settings(max_examples=examples(150))
@given(plan=plans(), wrong=st.sampled_from(["", "", "", "gatewy", "10.0.0.300", "nobody"]))
def test_what_is_shown_is_what_check_says(
    editor: Editor, tmp_path_factory: pytest.TempPathFactory, plan: dict[str, Any], wrong: str
) -> None:
    folder = tmp_path_factory.getbasetemp() / "shown"
    folder.mkdir(exist_ok=True)
    first = next(iter(plan["networks"].values()))
    if wrong:
        first["served_by" if wrong == "nobody" else wrong.replace("10.0.0.300", "gateway")] = wrong
    file = folder / "any.yaml"
    file.write_text(text_of(plan))
    editor.open(file)
    assert said_by(editor, file) == said_by_check(folder, file.name)
    related = any(each.related_information for each in editor.shown(file))
    met("unusable", bool(wrong))
    met("consequences", related)


def test_each_file_of_a_plan_shows_its_own(editor: Editor, tmp_path: Path, hurried: Path) -> None:
    """Includes and tables too; what stands in the editor counts, and what is closed is as saved."""
    text = hurried.read_text()
    devices = text[text.index("\ndevices:") : text.index("\nclasses:")]
    (tmp_path / "more").mkdir()
    more = tmp_path / "more/devices.yaml"
    more.write_text(f"reservoir: 1\n{devices}")
    hurried.write_text(text.replace(devices, "\ninclude: [more/devices.yaml]\n"))
    table = tmp_path / "bindings.csv"
    editor.open(table)  # the first that is opened: the plan is looked for
    of_table = [each.code for each in editor.shown(table)]
    assert of_table == ["binding-address-twice", "binding-outside-subnet"]
    editor.open(more)
    editor.open(hurried)
    assert said_by(editor, hurried) == said_by_check(tmp_path, hurried.name)
    editor.put(table, table.read_text().replace("10.84.25.60", "10.84.52.60"))
    assert [each.code for each in editor.shown(table)] == of_table[:1]
    editor.put(table, "network,name,mac,address\ncrow,a,00:00:5e:00:53:01,10.84.30.9\n")
    (wrong,) = editor.shown(table)
    assert "no network 'crow' (did you mean crew?)" in wrong.message
    editor.close(table)
    editor.put(hurried, editor.texts[hurried])
    assert said_by(editor, hurried) == said_by_check(tmp_path, hurried.name)
    editor.put(more, more.read_text().replace("dialect: larkspur", "dialect: larkspr", 1))
    (wrong,) = editor.shown(more)
    assert "no dialect 'larkspr'" in wrong.message
    editor.close(more)
    editor.close(hurried)
    assert not editor.shown(editor_file(editor, tmp_path), of=editor_file(editor, tmp_path))


def editor_file(editor: Editor, folder: Path) -> Path:
    """A file that no plan near it names, open in the editor: nothing of it is shown but that."""
    file = folder / "notes.yaml"
    if file not in editor.texts:
        editor.put(file, "notes: of the day\n")
        editor.put(file, "reservoir: 1\n")
    return file


def test_configuration(editor: Editor, tmp_path: Path) -> None:
    """What ``check`` says of a device's configuration alone; what it has, and where."""
    shutil.copy(DEMO / "running/pier-router.larkspur", tmp_path)
    file = tmp_path / "pier-router.larkspur"
    editor.open(file)
    assert said_by(editor, file) == said_by_check(tmp_path, file.name)
    (read,) = reservoir.read(file)
    outline = editor.outline(file)
    assert {each.name for each in outline} >= set(read.lifted.networks) > set()
    lines = file.read_text().split("\n")
    assert all(lines[each.range.start.line].strip() for each in outline)
    unknown = tmp_path / "unknown.txt"
    editor.put(unknown, "the quick brown fox\n")
    (note,) = editor.shown(unknown)
    assert note.severity is types.DiagnosticSeverity.Information
    assert "neither a plan nor configuration" in note.message


SIGNS = [
    "{",
    "}",
    "[",
    "]",
    ":",
    "- ",
    "\n",
    '"',
    "'",
    "#",
    "&a ",
    "*a",
    "\t",
    "\0",
    "\x1b[31m",
    "𝟛",
]


@settings(max_examples=examples(40))
@given(seed=st.integers(0, 2**32))
def test_half_typed_text_is_answered(
    editor: Editor, tmp_path_factory: pytest.TempPathFactory, seed: int
) -> None:
    """Whatever stands there, every question has an answer; once it is whole, all is as before."""
    folder = tmp_path_factory.getbasetemp() / "typed"
    if not folder.exists():
        shutil.copytree(DEMO / "hurried", folder)
    file = folder / "ferry-line.yaml"
    whole = file.read_text()
    editor.put(file, whole)
    before = said_by(editor, file)
    chance = random.Random(seed)  # noqa: S311 - drawn again, not guessed
    text = whole
    for _ in range(4):
        begin = chance.randrange(len(text))
        end = min(begin + chance.choice([0, 1, 5, 200]), len(text))
        text = text[:begin] + chance.choice(["", *SIGNS]) + text[end:]
        editor.put(file, text)
        for _ in range(2):
            place = min(max(begin + chance.randrange(-40, 40), 0), len(text))
            spot = (text.count("\n", 0, place) + 1, place - text.rfind("\n", 0, place))
            editor.hover(file, spot)
            editor.offered(file, spot)
            editor.definition(file, spot)
            editor.uses(file, spot)
        assert editor.outline(file)
        editor.actions(file, 1, 20)
    editor.put(file, whole)
    assert said_by(editor, file) == before


def test_the_last_whole_plan_is_kept(editor: Editor, right: Path) -> None:
    """While a line is half typed, names and addresses are known, and the line is completed."""
    text = right.read_text()
    editor.open(right)
    editor.shown(right)
    line = text[: text.index("    gateway: 10.84.30.1")].count("\n") + 1
    editor.put(right, text.replace("    gateway: 10.84.30.1\n", "    gate\n"))
    (wrong,) = editor.shown(right)
    assert wrong.severity is types.DiagnosticSeverity.Error
    offered = [item.label for item in editor.offered(right, (line, 9))]
    assert "gateway" in offered
    assert not {"subnet", "vlan", "ranges"} & set(offered)  # which stand before and behind it
    assert "10.84.30.0/24, VLAN 30" in editor.hover(right, (line - 3, 5))
    assert editor.outline(right)


def spots(text: str) -> Iterator[tuple[list[Any], bool, str, tuple[int, int]]]:
    """Each key and value of a plan: its path, whether it is a key, its text, line and column."""

    def walk(node: yaml.Node, path: list[Any]) -> Iterator[tuple[list[Any], bool, str, Any]]:
        if isinstance(node, yaml.MappingNode):
            for key, value in node.value:
                yield [*path, key.value], True, key.value, key.start_mark
                yield from walk(value, [*path, key.value])
        elif isinstance(node, yaml.SequenceNode):
            for number, item in enumerate(node.value):
                yield from walk(item, [*path, number])
        else:
            yield path, False, node.value, node.start_mark

    root = yaml.compose(text, Loader=yaml.BaseLoader)
    assert root is not None
    for path, is_key, written, mark in walk(root, []):
        yield path, is_key, written, (mark.line + 1, mark.column + 1)


def has_name(path: list[Any]) -> bool:
    """Whether a key is the name of something, or was chosen otherwise by who wrote it."""
    is_name = len(path) == 2 and path[0] in ("devices", "networks", "classes")
    return is_name or bool({"interfaces", "zones", "options", "by_class"} & {*path[-3:-1]})


NAMING = ("parent", "zone", "served_by", "pair", "device", "members", "dialect")


def test_what_was_written_is_offered(editor: Editor, right: Path) -> None:
    """Of a sound plan, each key and each name is among what is offered in its place."""
    text = right.read_text()
    editor.open(right)
    editor.shown(right)
    tried: Counter[str] = Counter()
    for path, is_key, written, (line, column) in spots(text):
        names = [step for step in path if isinstance(step, str)]
        is_name = not is_key and names[-1] in NAMING and "demand" not in names
        if not (is_name or is_key) or (is_key and has_name(path)) or path == ["reservoir"]:
            continue
        lines = text.split("\n")
        lines[line - 1] = lines[line - 1][: column - 1] + written[:1]
        editor.put(right, "\n".join(lines))
        offered = [item.label for item in editor.offered(right, (line, column + 1))]
        assert written in offered, (path, offered)
        tried["key" if is_key else names[-1]] += 1
    assert tried["key"] > 100
    assert min(tried[name] for name in ("parent", "zone", "served_by", "pair", "dialect")) > 0


def used_in(folder: Path) -> set[IPv4Address]:
    """Every address that the plan's files name."""
    texts = [file.read_text() for file in folder.iterdir() if file.is_file()]
    return {IPv4Address(a) for t in texts for a in re.findall(r"\b\d+\.\d+\.\d+\.\d+\b", t)}


def test_what_is_free_is_offered(editor: Editor, right: Path) -> None:
    """Addresses, ranges, subnets and tags that nothing has; gateways that an interface has."""
    text = right.read_text()
    editor.open(right)
    editor.shown(right)
    networks = yaml.safe_load(text)["networks"].values()
    subnets = [IPv4Network(one["subnet"]) for one in networks]
    tags = {str(one["vlan"]) for one in networks if "vlan" in one}
    begin = text.index("\nnetworks:\n") + len("\nnetworks:\n")
    used = used_in(right.parent)

    def offered(typed: str, network: str = "quay") -> list[str]:
        written = f"  {network}:\n{typed}"
        editor.put(right, text[:begin] + written + "\n" + text[begin:])
        line = text[:begin].count("\n") + 1 + written.count("\n")
        column = len(written) - written.rfind("\n")
        return [item.label for item in editor.offered(right, (line, column))]

    free = [IPv4Network(each) for each in offered("    subnet: ")]
    assert free and not any(new.overlaps(old) for new in free[:3] for old in subnets)
    assert not {address for address in used for new in free[:3] if address in new}
    assert not tags & set(offered("    vlan: "))
    quay = "    subnet: 10.84.60.0/24\n"
    assert offered(f"{quay}    gateway: ")[0] == "10.84.60.1"
    (range_, *_) = offered(f"{quay}    gateway: 10.84.60.1\n    ranges: [")
    first, _, last = range_.partition("-")
    assert IPv4Address("10.84.60.1") < IPv4Address(first) < IPv4Address(last)
    editor.put(right, text)
    editor.shown(right)
    line = text[: text.index("address: 10.84.53.6}")].count("\n") + 1
    lines = text.split("\n")
    lines[line - 1] = lines[line - 1].partition("10.84.53.6")[0]
    editor.put(right, "\n".join(lines))
    labels = [item.label for item in editor.offered(right, (line, len(lines[line - 1]) + 1))]
    assert labels and all(IPv4Address(each) in IPv4Network("10.84.53.0/28") for each in labels)
    assert not {IPv4Address(each) for each in labels} & used
    editor.put(right, text)
    table = right.parent / "bindings.csv"
    editor.put(table, table.read_text() + "crew,bosun-2,00:00:5e:00:53:99,")
    editor.shown(table)
    row = editor.texts[table].count("\n") + 1
    (address, *_) = [
        i.label for i in editor.offered(table, (row, len("crew,bosun-2,00:00:5e:00:53:99,") + 1))
    ]
    assert IPv4Address(address) in IPv4Network("10.84.30.0/24")
    assert IPv4Address(address) not in used
    assert "crew" in [item.label for item in editor.offered(table, (row, 2))]


def times(said: Said, rule: str) -> int:
    """How often something was said."""
    return sum(count for (_, _, what), count in said.items() if what == rule)


def errors_in(editor: Editor, file: Path) -> int:
    """How many errors are shown of a file."""
    return sum(e.severity is types.DiagnosticSeverity.Error for e in editor.shown(file))


def test_fixes_do_what_they_say(editor: Editor, run: Run, hurried: Path) -> None:
    """Each removes its finding and adds no error; all that are certain are those of ``mend``."""
    editor.open(hurried)
    before, errors = said_by(editor, hurried), errors_in(editor, hurried)
    text = editor.texts[hurried]
    actions = editor.actions(hurried, 1, text.count("\n") + 1)
    single = [each for each in actions if each.kind == types.CodeActionKind.QuickFix]
    assert len(single) >= 8
    texts = [editor.chosen(action)[hurried] for action in single]
    for action, after in zip(single, texts, strict=True):
        rule = action.title.removeprefix("Fix ").partition(":")[0]
        editor.put(hurried, after)
        assert times(said_by(editor, hurried), rule) < times(before, rule), action.title
        assert errors_in(editor, hurried) <= errors, action.title
    editor.put(hurried, text)
    editor.shown(hurried)
    (every,) = [
        each for each in editor.actions(hurried, 1, 2) if str(each.kind).startswith("source.fixAll")
    ]
    mended = editor.chosen(every)
    assert run("mend", hurried.name, "--in-place").code == 0
    assert mended == {hurried: hurried.read_text()}


def test_names_lead_to_where_they_are_defined(editor: Editor, right: Path) -> None:
    """From each use to the definition, and from there to all uses."""
    text = right.read_text()
    editor.open(right)
    editor.shown(right)
    table = right.parent / "bindings.csv"
    every = list(spots(text))
    defined = {
        tuple(path): spot
        for path, is_key, _, spot in every
        if is_key and (len(path) == 2 or (len(path) == 4 and path[0] == "devices"))
    }
    used: Counter[tuple[Any, ...]] = Counter()
    for path, is_key, written, spot in every:
        names = [step for step in path if isinstance(step, str)]
        target: tuple[Any, ...] = ()
        if not is_key and names[-1] in ("parent", "members"):
            target = (*path[:2], "interfaces", written)
        elif not is_key and names[-1] == "zone" and path[0] == "devices":
            target = (*path[:2], "zones", written)
        elif not is_key and names[-1] in ("served_by", "pair"):
            target = ("devices", written)
        elif is_key and len(path) == 4 and path[2] == "by_class":
            target = ("classes", written)
        if target:
            used[target] += 1
            assert editor.definition(right, spot) == [(right, written)], path
            lines = [line for _, line, _ in editor.uses(right, spot)]
            assert {defined[target][0], spot[0]} <= set(lines)
    for target, spot in defined.items():
        if target[0] in ("devices", "classes"):
            found = editor.uses(right, spot)
            assert {name for _, _, name in found} == {target[-1]}
            assert len(found) == used[target] + 1, target
    editor.open(table)
    network = table.read_text().split("\n")[1].partition(",")[0]
    assert editor.definition(table, (2, 2)) == [(right, network)]
    found = editor.uses(right, defined["networks", network])
    rows = [
        n for n, row in enumerate(table.read_text().split("\n"), 1) if row.startswith(f"{network},")
    ]
    assert [line for path, line, _ in found if path == table] == rows
    of_table = next(spot for _, _, written, spot in every if written == "bindings.csv")
    assert editor.definition(right, of_table)[0][0] == table


def test_hovering(editor: Editor, hurried: Path) -> None:
    """An address, a range, a network, a client, a rule's manual, a key; nothing of what isn't."""
    text = hurried.read_text()
    editor.open(hurried)
    editor.shown(hurried)

    def over(sought: str, inside: str = "") -> str:
        place = text.index(sought) + sought.index(inside or sought) + 1
        return editor.hover(
            hurried, (text.count("\n", 0, place) + 1, place - text.rfind("\n", 0, place))
        )

    assert "the gateway of passenger-wifi" in over("gateway: 10.84.20.1", "10.84")
    assert "1,018 addresses" in over("[10.84.20.1-10.84.23.250", "10.84")
    assert "### gateway-in-pool" in over("[10.84.20.1-10.84.23.250", "10.84")
    assert "served by harbour-office" in over("  crew:", "crew")
    assert "the address of pier-router deck.30" in over("address: 10.84.30.1/24", "10.84")
    assert "The servers that it relays" in over("relay_to: [10.84", "relay_to")
    for inside in ("lease", "7d"):
        meaning, form = over("    lease: 7d", inside).split("\n\n")
        assert meaning.startswith("How long a client may keep its address")
        assert form == "a duration, or none, like 1d12h"
    assert over("served_by: harbour-office", "served_by").startswith("Who assigns")
    assert over("served_by: harbour-office", "harbour").startswith("**harbour-office**")
    assert not over("# North Pier", "North")
    table = hurried.parent / "bindings.csv"
    editor.open(table)
    row = table.read_text().split("\n")[1]
    mac = next(cell for cell in row.split(",") if ":" in cell)
    assert row.split(",")[1] in editor.hover(table, (2, row.index(mac) + 3))


def test_texts_of_a_plan_stay_texts(editor: Editor, tmp_path: Path) -> None:
    """What is shown obeys nothing that a plan says; columns are counted as the editor counts."""
    file = tmp_path / "signs.yaml"
    network = "subnet: 10.84.30.0/24, gateway: 10.84.31.1"
    editor.put(file, f'reservoir: 1\nnetworks: {{"𝟛<b>*x*": {{{network}}}}}\n')
    shown = editor.shown(file)
    line = editor.texts[file].split("\n")[1]
    gateway = next(each for each in shown if "10.84.31.1" in each.message)
    assert editor.within(editor.texts[file], gateway.range) == "10.84.31.1"
    told = editor.hover(file, (2, line.index("10.84.30.0") + 2))
    assert "𝟛\\<b\\>\\*x\\*" in told
    editor.put(file, editor.texts[file].replace("gateway: 10.84.31.1", 'gateway: "a\\eb"'))
    messages = [each.message for each in editor.shown(file)]
    assert messages and not any("\x1b" in message for message in messages)


def test_editors_that_can_less(hurried: Path, editor: Editor) -> None:
    """Without related places, consequences are in the message; fixes come with their edits."""
    editor.open(hurried)
    shown = editor.shown(hurried)
    causes = [each for each in shown if each.related_information]
    plain = Editor("")
    try:
        plain.open(hurried)
        for rich in causes:
            (same,) = [
                each
                for each in plain.shown(hurried)
                if each.code == rich.code and each.range == rich.range
            ]
            assert not same.related_information
            for other in rich.related_information or ():
                assert other.message in same.message
        actions = plain.actions(hurried, 1, 100)
        assert actions and all(each.edit is not None for each in actions)
    finally:
        plain.end()


def test_a_real_editor(neovim: str, hurried: Path) -> None:
    """With the settings that the documentation shows: findings, completion, a fix, a definition."""
    settings = (ROOT / "docs/editor.md").read_text().partition("```lua\n")[2].partition("```")[0]
    (hurried.parent / "init.lua").write_text(settings)
    steps = hurried.parent / "steps.lua"
    steps.write_text(STEPS)
    command = [neovim, "--headless", "-u", "init.lua", hurried.name, "-c", "luafile steps.lua"]
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    ended = subprocess.run(
        command,
        cwd=hurried.parent,
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
        env={**os.environ, "PATH": path, "HOME": str(hurried.parent)},
    )
    assert ended.returncode == 0, ended.stderr
    found = json.loads((hurried.parent / "found.json").read_text())
    known = {(line, rule) for _, line, rule in said_by_check(hurried.parent, hurried.name)}
    assert len(found["shown"]) > 12
    assert {(line, rule) for line, rule in found["shown"]} <= known
    assert found["line"] == "    gateway: 10.84.24.1"
    assert "pier-router:" in found["definition"]
    assert "harbour-office" in found["offered"]
    assert "10.84.24.0/24, VLAN 24" in found["hover"]


ROOT = Path(__file__).parents[1]

STEPS = """
local function settled(condition)
  assert(vim.wait(30000, condition, 20), "nothing came")
end
local function asked(method, line, column)
  local place = { line = line - 1, character = column - 1 }
  local its = { textDocument = vim.lsp.util.make_text_document_params(), position = place }
  for _, answer in pairs(vim.lsp.buf_request_sync(0, method, its, 30000)) do
    return answer.result
  end
end
settled(function() return #vim.diagnostic.get(0) > 0 end)
local found = { shown = {}, offered = {} }
for _, each in ipairs(vim.diagnostic.get(0)) do
  table.insert(found.shown, { each.lnum + 1, each.code })
end
local function line_of(text) return vim.fn.search(text, "w") end
local gateway = line_of("gateway: 10.48.24.1")
found.hover = asked("textDocument/hover", gateway - 3, 4).contents.value
vim.api.nvim_win_set_cursor(0, { line_of("served_by: pier-router"), 16 })
vim.lsp.buf.definition()
settled(function() return vim.fn.getline("."):find("pier%-router:") end)
found.definition = vim.fn.getline(".")
local line = line_of("served_by: pier-router")
for _, item in ipairs(asked("textDocument/completion", line, 16).items) do
  table.insert(found.offered, item.label)
end
vim.ui.select = function(items, _, choose) choose(items[1]) end
vim.api.nvim_win_set_cursor(0, { gateway, 14 })
vim.lsp.buf.code_action()
settled(function() return vim.fn.getline(gateway):find("10.84.24.1") end)
found.line = vim.fn.getline(gateway)
vim.fn.writefile({ vim.fn.json_encode(found) }, "found.json")
vim.cmd("qall!")
"""


def test_only_what_changed_is_read_anew(right: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Of a plan in several files, that one; the plan is the same as if all had been read."""
    read: list[str] = []

    def counted(text: str, file: str) -> yaml_tree.YamlTree:
        read.append(file)
        return yaml_tree.parse_yaml(text, file)

    monkeypatch.setattr("reservoir.files.plan_file.parse_yaml", counted)
    kept = Kept()
    first = reservoir.load(right, kept=kept)
    again = reservoir.load(right, kept=kept)
    assert again.plan.networks == first.plan.networks
    assert again.plan.bulk_bindings.address is first.plan.bulk_bindings.address
    bindings = right.parent / "bindings.csv"
    changed = {str(bindings): bindings.read_text().split("\n")[0] + "\n"}
    assert not len(reservoir.load(right, kept=kept, texts=changed).plan.bulk_bindings)
    assert read == [str(right)]
    changed = {str(right): right.read_text().replace("lease: 12h", "lease: 11h", 1)}
    assert reservoir.load(right, kept=kept, texts=changed).plan.defaults.lease == 11 * 3600
    assert read == [str(right)] * 2


def test_without_an_editor(tmp_path: Path, installed: Path) -> None:
    """The end of input ends it; what isn't the protocol is no defect."""
    assert program(tmp_path, "lsp", start=installed).code == 0
    wrong = ["hello\n\n", *(f"Content-Length: {n}\r\n\r\n{{bad}}" for n in (5, -3, 1, "x"))]
    ended = program(tmp_path, "lsp", start=installed, stdin="".join(wrong))
    assert (ended.code, ended.err) == (0, "")
