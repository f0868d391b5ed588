"""Files: YAML with places, edits in place, tables in bulk, writing whole or not at all."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import signal
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examples
from reservoir.core.plan.edits import Edit
from reservoir.core.problems import InputError
from reservoir.files.changing import change_files, write_whole
from reservoir.files.deliveries import LEDGER, Delivery, deliver
from reservoir.files.journal import JOURNAL, finish_cut_off
from reservoir.files.plan_edits import NotEditableError, TextEdits, edited
from reservoir.files.tables import BINDING_COLUMNS, read_table
from reservoir.files.yaml_tree import YamlTree, parse_yaml
from reservoir.reports.difference import unified_difference

Path_ = tuple[str | int, ...]

words = st.from_regex(r"[a-z][a-z0-9.-]{0,8}", fullmatch=True)
scalars = words | st.sampled_from(
    ["no", "0755", "06:30", "10:11:22:33:44:55", "1e3", "2027-03-31", "~", "null", "a b", "é", "#x"]
)
trees = st.recursive(
    scalars,
    lambda inner: (
        st.lists(inner, min_size=1, max_size=4)
        | st.dictionaries(words, inner, min_size=1, max_size=4)
    ),
    max_leaves=25,
)
documents = st.dictionaries(words, trees, min_size=1, max_size=5)


def dumped(data: Any, flow: bool | None) -> str:
    """The data as some person might write it: blocks, braces or both."""
    return yaml.dump(data, default_flow_style=flow, allow_unicode=True, sort_keys=False)


def paths(data: Any, above: Path_ = ()) -> list[tuple[Path_, Any]]:
    """Every path of a tree with its value."""
    found: list[tuple[Path_, Any]] = [(above, data)] if above else []
    inside: list[tuple[Any, Any]] = []
    if isinstance(data, dict):
        inside = list(data.items())
    elif isinstance(data, list):
        inside = list(enumerate(data))
    for step, value in inside:
        found += paths(value, (*above, step))
    return found


def at(data: Any, path: Path_) -> Any:
    for step in path:
        data = data[step]
    return data


@given(documents, st.sampled_from([None, True, False]))
def test_yaml_is_read_as_texts_with_true_places(data: dict[str, Any], flow: bool | None) -> None:
    """The same tree as YAML's own reader without types; at each scalar's place stands its text."""
    text = dumped(data, flow)
    tree = parse_yaml(text, "x.yaml")
    assert tree.data == yaml.load(text, Loader=yaml.BaseLoader)  # noqa: S506 - texts only
    assert not tree.problems
    lines = text.split("\n")
    for path, value in paths(tree.data):
        place = tree.place(path)
        if isinstance(value, str):
            written = lines[place.line - 1][place.column - 1 :]
            assert yaml.safe_load(f'"{value}"') == value
            assert written.lstrip("'\"").startswith(value.split(" ", maxsplit=1)[0])
        if isinstance(path[-1], str):
            key = tree.place(path, at_key=True)
            assert lines[key.line - 1][key.column - 1 :].lstrip("'\"? ").startswith(path[-1])


@given(documents, st.sampled_from([None, True, False]), st.data())
@settings(max_examples=examples(200))
def test_an_edit_changes_one_value_and_no_other_byte(
    data: dict[str, Any], flow: bool | None, draw: st.DataObject
) -> None:
    """Replace, append to a list, add a key: the tree differs there only; comments stay."""
    text = commented(dumped(data, flow))
    tree = parse_yaml(text, "x.yaml").data
    path, value = draw.draw(st.sampled_from(paths(tree)))
    if isinstance(value, str):
        edit, expected = Edit(path, value, "10.84.0.1"), "10.84.0.1"
    elif isinstance(value, list):
        path = (*path, len(value))
        edit, expected = Edit(path, None, "10.84.0.1"), "10.84.0.1"
    else:
        path = (*path, "zz-new")
        edit, expected = Edit(path, None, "10.84.0.1"), "10.84.0.1"
    after = edited(text, edit)
    changed = parse_yaml(after, "x.yaml").data
    assert at(changed, path) == expected
    others = dict(paths(changed))
    above = {path[:i] for i in range(1, len(path) + 1)}
    for other, there in paths(tree):
        if other not in above and isinstance(there, str):
            assert others[other] == there
    assert after.count("# kept") == text.count("# kept")
    unchanged = set(text.split("\n")) - set(after.split("\n"))
    assert len(unchanged) <= 1 + len(str(value).split("\n"))


def commented(text: str) -> str:
    """With a remark behind each line that is whole by itself."""
    lines = text.split("\n")
    return "\n".join(
        f"{line} # kept" if re.fullmatch(r"[a-z0-9 .-]+: [a-z0-9.]+", line) else line
        for line in lines
    )


@pytest.mark.parametrize(
    ("before", "path", "after"),
    [
        ("a: [x, y, z]\n", ("a", 1), "a: [x, z]\n"),
        ("a: [x, y, z]\n", ("a", 2), "a: [x, y]\n"),
        ("a: [x]\n", ("a", 0), "a: []\n"),
        ("a:\n  - x\n  - y # gone\n  - z\nb: c\n", ("a", 1), "a:\n  - x\n  - z\nb: c\n"),
        ("a:\n  - x\n", ("a", 0), "a:\n"),
    ],
)
def test_an_item_is_taken_away_with_its_line(before: str, path: Path_, after: str) -> None:
    """In braces with its comma, in a block with its line."""
    assert edited(before, Edit(path, "y", None)) == after


def test_several_edits_are_made_at_once_in_the_text_as_it_is() -> None:
    """Places of a list are those before any is gone; what touches another edit waits."""
    edits = TextEdits("a: [x, y, z, w]\nb: 'c'\n")
    edits.edit(Edit(("a", 2), "z", None))
    edits.edit(Edit(("b",), "c", "d"))
    with pytest.raises(NotEditableError):
        edits.edit(Edit(("a", 3), "w", "v"))
    edits.edit(Edit(("a", 0), "x", "u"))
    assert edits.result() == "a: [u, y, w]\nb: 'd'\n"


texts = st.lists(st.sampled_from("abcdef"), max_size=12)


@given(before=texts, after=texts, context=st.sampled_from([0, 1, 3]))
@settings(max_examples=examples(40))
def test_a_difference_turns_one_text_into_the_other(
    tmp_path_factory: pytest.TempPathFactory, before: list[str], after: list[str], context: int
) -> None:
    """Another program that applies such differences makes the second text of the first."""
    file = tmp_path_factory.mktemp("difference") / "x"
    file.write_text("".join(f"{line}\n" for line in before))
    difference = list(unified_difference(before, after, ("a/x", "b/x"), context))
    assert bool(difference) == (before != after)
    if difference:
        patch = "\n".join([*difference, ""])
        apply = ["git", "apply", "--unidiff-zero"]
        subprocess.run(apply, cwd=file.parent, input=patch, text=True, check=True)
    assert file.read_text().split() == after


@pytest.mark.parametrize(
    ("text", "edit"),
    [
        ("a: {b: c}\n", Edit(("a", "x"), "c", "d")),
        ("a: {b: c}\n", Edit(("a",), "c", "d")),
        ("a: {b: c}\n", Edit(("a", "b"), "c", None)),
        ("a: {b: c}\n", Edit(("x", "y", "z"), None, "d")),
        ("a: b\n", Edit(("a", "x"), None, "d")),
    ],
)
def test_an_edit_without_a_place_is_refused(text: str, edit: Edit) -> None:
    """Rather than made somewhere else."""
    with pytest.raises(NotEditableError):
        edited(text, edit)


NETWORKS = {"crew": 0, "shop": 1}
good_rows = st.fixed_dictionaries(
    {
        "network": st.sampled_from(sorted(NETWORKS)),
        "name": st.text(st.characters(exclude_categories=["C", "Z"]), max_size=6)
        | st.sampled_from(['a "b"', "a, b"]),
        "mac": st.integers(0, 2**48 - 1).map(lambda n: f"{n:012x}"),
        "address": st.tuples(*[st.integers(0, 255)] * 4).map(lambda q: ".".join(map(str, q))),
    }
)
bad_cells = st.sampled_from(
    [
        ("network", "crw"),
        ("mac", "0000"),
        ("mac", "00:00:5e:00:5301"),
        ("address", "10.1"),
        ("address", "10.84.0.010"),
        ("address", "10.84.0.256"),
        ("address", " 10.84.0.1"),
        ("name", "\x07"),
    ]
)


@pytest.fixture(scope="module")
def table(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("tables") / "b.csv"


@given(
    rows=st.lists(good_rows, max_size=6),
    order=st.permutations(BINDING_COLUMNS),
    wrong=st.lists(st.tuples(st.integers(0, 5), bad_cells), max_size=3),
)
def test_a_table_is_read_whole_or_every_wrong_cell_is_named(
    table: Path, rows: list[dict[str, str]], order: list[str], wrong: list[tuple[int, Any]]
) -> None:
    """Bulk reading takes exactly what reading cell by cell would; places point to the cells."""
    expected: set[tuple[int, str]] = set()
    for number, (column, text) in wrong:
        if number < len(rows):
            rows[number][column] = text
            expected.add((number + 2, column))
    stream = io.StringIO()
    writer = csv.DictWriter(stream, order, lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    table.write_text(stream.getvalue(), encoding="utf-8")
    try:
        read, places = read_table(str(table), BINDING_COLUMNS, NETWORKS, ("bindings_from", 0))
    except InputError as error:
        lines = stream.getvalue().split("\n")
        found = set()
        for problem in error.problems:
            line, start = problem.place.line, problem.place.column - 1
            before = next(csv.reader([lines[line - 1][:start]])) if start else [""]
            found.add((line, order[len(before) - 1]))
        assert found == expected
        return
    assert not expected
    assert len(read) == len(rows)
    for number, row in enumerate(rows):
        assert read.network[number] == NETWORKS[row["network"]]
        assert f"{read.client[number]:012x}" == row["mac"]
        assert read.address[number] == int.from_bytes(map(int, row["address"].split(".")))
        assert read.name[number] == row["name"]
        assert read.path(number) == ("bindings_from", 0, number)
        assert places.place(number).line == number + 2


def test_files_are_put_in_place_whole_or_not_at_all(tmp_path: Path) -> None:
    """If one of several can't be, none is; what is left behind is nothing."""
    folder = tmp_path / "new" / "folder"
    first = Delivery("a.conf", "one\n")
    assert deliver(folder, [first]) == {"a.conf": "new"}
    (folder / "b.conf").write_text("mine\n")
    with pytest.raises(InputError) as refused:
        deliver(folder, [Delivery("a.conf", "two\n"), Delivery("b.conf", "two\n")])
    assert "was not written by Reservoir" in str(refused.value)
    assert (folder / "a.conf").read_text() == "one\n"
    assert sorted(path.name for path in folder.iterdir()) == [LEDGER, "a.conf", "b.conf"]
    for name in ("../x", "a/b", ".hidden"):
        with pytest.raises(InputError):
            deliver(folder, [Delivery(name, "x")])
    (folder / LEDGER).write_text("{")
    with pytest.raises(InputError):
        deliver(folder, [Delivery("a.conf", "two\n")])
    assert deliver(folder, [Delivery("a.conf", "two\n")], force=True) == {"a.conf": "changed"}
    blocked = tmp_path / "file"
    blocked.write_text("")
    with pytest.raises(InputError):
        deliver(blocked, [first])


CHANGE = """
import os, signal, sys
from pathlib import Path
from reservoir.files import changing
calls = iter(range(int(sys.argv[2])))
def killed(path, data, real=os.replace):
    if next(calls, None) is None:
        os.kill(os.getpid(), signal.SIGKILL)
    return real(path, data)
changing.os.replace = killed
os.chdir(sys.argv[1])
changing.change_files({Path(name): "new " + name for name in sys.argv[3:]})
"""


@pytest.mark.parametrize("names", [list("abc"), ["plans/a", "tables/b", "tables/c"]])
@pytest.mark.parametrize("renamed", range(4))
def test_a_change_of_several_files_that_is_killed_is_finished_later(
    renamed: int, names: list[str], tmp_path: Path
) -> None:
    """After any of them, wherever they lie: then all have their new text, and nothing is left."""
    for name in names:
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text(f"old {name}")
        (tmp_path / name).chmod(0o640)
    command = [sys.executable, "-c", CHANGE, str(tmp_path), str(renamed), *names]
    ended = subprocess.run(command, check=False)
    assert ended.returncode == (0 if renamed == 3 else -signal.SIGKILL)
    assert finish_cut_off((tmp_path / names[0]).parent) == [tmp_path / n for n in names[renamed:]]
    assert [(tmp_path / name).read_text() for name in names] == [f"new {n}" for n in names]
    there = [path for path in tmp_path.rglob("*") if path.is_file()]
    assert {path.stat().st_mode & 0o777 for path in there} == {0o640}
    assert sorted(str(path.relative_to(tmp_path)) for path in there) == names
    assert finish_cut_off(tmp_path) == []


def test_what_is_killed_before_all_texts_are_there_has_changed_nothing(tmp_path: Path) -> None:
    """And leaves nothing; as long as its writer lives, nobody touches a change."""
    script = CHANGE.replace("calls =", "changing.os.fsync = lambda handle: KILL\ncalls =")
    for name in "ab":
        (tmp_path / name).write_text(f"old {name}")
    for kill in ("os.kill(os.getpid(), signal.SIGKILL)", "(print(flush=True), sys.stdin.read(1))"):
        command = [sys.executable, "-c", script.replace("KILL", kill), str(tmp_path), "9", "a", "b"]
        pipe = subprocess.PIPE
        with subprocess.Popen(command, stdin=pipe, stdout=pipe, text=True) as writer:
            assert writer.stdin is not None and writer.stdout is not None
            writer.stdout.readline()
            there = len(list(tmp_path.iterdir()))
            assert finish_cut_off(tmp_path) == []
            assert there == 4
            assert len(list(tmp_path.iterdir())) == (2 if "SIGKILL" in kill else 4)
            assert [(tmp_path / name).read_text() for name in "ab"] == ["old a", "old b"]
            writer.kill()
    assert finish_cut_off(tmp_path) == []
    assert len(list(tmp_path.iterdir())) == 2


TEMPORARY = f".reservoir-{'0' * 16}-0.tmp"


@pytest.mark.parametrize(
    "names",
    [
        {f"../{TEMPORARY}": "../victim"},
        {f"way/{TEMPORARY}": "way/victim"},
        {f"{{root}}/{TEMPORARY}": "{root}/victim"},
        {TEMPORARY: "../victim"},
        {"own.tmp": "victim"},
        [TEMPORARY, "victim"],
        "victim",
    ],
)
def test_a_planted_journal_changes_nothing_outside_its_folder(names: Any, tmp_path: Path) -> None:
    """Nor puts anything else in place than new texts of Reservoir's."""
    folder = tmp_path / "plans"
    folder.mkdir()
    (folder / "way").symlink_to(tmp_path)
    for place in (tmp_path, folder):
        for name in ("victim", TEMPORARY, "own.tmp"):
            (place / name).write_text(name)
    line = json.dumps(names).replace("{root}", str(tmp_path))
    (folder / JOURNAL).write_text(f"{line}\ncomplete\n")
    assert finish_cut_off(folder) == []
    assert (tmp_path / "victim").read_text() == (folder / "victim").read_text() == "victim"


@pytest.mark.skipif(os.getuid() != 0, reason="only root can make a file somebody else's")
def test_a_change_of_somebody_else_is_not_finished(tmp_path: Path) -> None:
    """It may have been put there; whoever comes is told."""
    (tmp_path / JOURNAL).write_text(f'{{"{TEMPORARY}": "victim"}}\ncomplete\n')
    (tmp_path / TEMPORARY).write_text("theirs")
    os.chown(tmp_path / JOURNAL, 4711, -1)
    with pytest.raises(InputError, match="a change that isn't yours was cut off here"):
        finish_cut_off(tmp_path)
    tmp_path.chmod(0o1777)  # anybody may put one here, and nobody else can remove it
    inside = tmp_path / "plans"
    inside.mkdir()
    assert finish_cut_off(inside) == []
    change_files({tmp_path / name: name for name in "ab"})
    assert not (tmp_path / "victim").exists()


@pytest.mark.parametrize("make", [os.mkfifo, lambda path: path.symlink_to("/dev/zero")])
def test_what_is_no_journal_keeps_nobody_waiting(make: Any, tmp_path: Path) -> None:
    """A pipe or a link by that name: a change goes on, and whoever would finish one is told."""
    make(tmp_path / JOURNAL)
    change_files({tmp_path / name: name for name in "ab"})
    assert (tmp_path / "b").read_text() == "b"
    with pytest.raises(InputError, match="or remove this file"):
        finish_cut_off(tmp_path)


def test_two_first_writers_into_a_folder_keep_both_in_its_ledger(tmp_path: Path) -> None:
    """Neither forgets what the other wrote."""
    script = (
        "import sys; from pathlib import Path\n"
        "from reservoir.files.deliveries import Delivery, deliver\n"
        "sys.stdin.read(1); deliver(Path(sys.argv[1]), [Delivery(sys.argv[2], 'x')])"
    )
    for turn in range(8):
        folder = tmp_path / str(turn)
        writers = [
            subprocess.Popen(
                [sys.executable, "-c", script, str(folder), name], stdin=subprocess.PIPE
            )
            for name in "ab"
        ]
        for writer in writers:
            assert writer.stdin is not None
            writer.stdin.close()
        assert [writer.wait() for writer in writers] == [0, 0]
        assert sorted(json.loads((folder / LEDGER).read_text())) == ["a", "b"]


def test_ctrl_c_waits_until_all_files_are_in_place(tmp_path: Path) -> None:
    """And what was changed is known to whoever says so."""
    script = (
        CHANGE.replace("SIGKILL", "SIGINT").split("folder =")[0]
        + """
from reservoir.files.noted import noted
signal.signal(signal.SIGINT, signal.default_int_handler)  # ignored, where a job began in the back
changed = []
noted.set(changed)
try:
    changing.change_files({Path(sys.argv[1]) / name: "new " + name for name in "abc"})
except KeyboardInterrupt:
    print(*[path.name for path in changed])
"""
    )
    command = [sys.executable, "-c", script, str(tmp_path), "1"]
    ended = subprocess.run(command, check=False, capture_output=True, text=True)
    assert ended.stdout == "a b c\n", ended.stderr
    assert [path.read_text() for path in sorted(tmp_path.iterdir())] == ["new a", "new b", "new c"]


@pytest.mark.parametrize("names", [["a"], ["a", "b"]])
def test_on_a_full_disk_every_file_keeps_its_text(names: list[str], tmp_path: Path) -> None:
    """Also the file that has another name, which can't be replaced by another."""
    (tmp_path / "a").write_text("old " * 100)
    (tmp_path / "b").write_text("old " * 100)
    (tmp_path / "other").hardlink_to(tmp_path / "a")
    script = (
        "import sys, resource; from pathlib import Path; from reservoir.files import changing\n"
        "resource.setrlimit(resource.RLIMIT_FSIZE, (700, 700))\n"
        "changing.change_files({Path(name): 'new ' * 200 for name in sys.argv[1:]})"
    )
    command = [sys.executable, "-c", script, *(str(tmp_path / name) for name in reversed(names))]
    ended = subprocess.run(command, check=False, capture_output=True, text=True)
    assert "File too large" in ended.stderr
    assert {path.read_text() for path in tmp_path.iterdir()} == {"old " * 100}
    assert len(list(tmp_path.iterdir())) == 3


def test_what_somebody_changed_meanwhile_is_not_overwritten(tmp_path: Path) -> None:
    """Neither that file nor the others of the change."""
    one, other = tmp_path / "one", tmp_path / "other"
    one.write_text("\ufeffread\n")
    other.write_text("edited since\n")
    new = {one: "new\n", other: "new\n"}
    with pytest.raises(InputError, match="other:1:1: the file was changed by somebody else"):
        change_files(new, {one: "read\n", other: "read\n"})
    assert [one.read_text(), other.read_text()] == ["\ufeffread\n", "edited since\n"]
    change_files(new, {one: "read\n", other: "edited since\n"})
    assert [one.read_text(), other.read_text()] == ["new\n", "new\n"]


def test_links_pipes_and_other_names_stay_what_they_are(tmp_path: Path) -> None:
    """What a link leads to is changed, and so is the file under its other name."""
    original, link, twin = tmp_path / "original", tmp_path / "link", tmp_path / "twin"
    original.write_text("a longer text than before\n")
    link.symlink_to("original")
    twin.hardlink_to(original)
    write_whole(link, "changed\n")
    assert link.is_symlink()
    assert original.read_text() == twin.read_text() == "changed\n"
    assert original.samefile(twin)
    write_whole(Path("/dev/null"), "x")
    assert Path("/dev/null").is_char_device()
    with pytest.raises(InputError, match="can't be written"):
        write_whole(tmp_path, "x")


def test_two_files_of_one_name_are_refused(tmp_path: Path) -> None:
    """Rather than one over the other."""
    with pytest.raises(InputError, match="2 files would be called"):
        deliver(tmp_path / "new", [Delivery("a.conf", "one\n"), Delivery("a.conf", "two\n")])


def test_places_of_what_is_not_there_are_the_nearest(tmp_path: Path) -> None:
    """A finding about a missing key points to the block that lacks it."""
    tree: YamlTree = parse_yaml("a:\n  b: {c: 1}\n", "x.yaml")
    assert str(tree.place(("a", "b", "z", 3))) == "x.yaml:2:3"
    assert str(tree.place(("a", "b", "c"))) == "x.yaml:2:10"
    assert str(tree.place(("q",))) == "x.yaml:1:1"
