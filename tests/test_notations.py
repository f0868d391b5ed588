"""Notations: what is written is read again as the same nodes; what is damaged keeps its place."""

from __future__ import annotations

import json
from xml.etree import ElementTree

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examples
from met import meets, met
from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.forms.texts import Text
from reservoir.dialects.notations import json as json_carrier
from reservoir.dialects.notations import xml as xml_carrier
from reservoir.dialects.notations.files import FileMarks, in_files, in_one_text
from reservoir.dialects.notations.json import Json
from reservoir.dialects.notations.nodes import Node, Notation
from reservoir.dialects.notations.xml import Xml
from reservoir.dialects.sheet.loader import load_sheet
from reservoir.dialects.sheet.model import Scope

NO_ROWS = Scope(())


def notation(header: str) -> Notation:
    """What a header describes."""
    return load_sheet(f"sheet x\n{header}\n---\ndevice | box {{name}}\n", "x.sheet").notation


Tree = tuple[str, list["Tree"]]

words = st.from_regex("[a-z]{1,6}", fullmatch=True)
values = st.text(min_size=1, max_size=8).filter(lambda text: text.isprintable() and text.strip())


def tree(nodes: list[Node]) -> list[Tree]:
    """Texts and nesting alone."""
    return [(node.text, tree(node.children)) for node in nodes]


def node_of(text: str, children: list[Node]) -> Node:
    return Node(text, children=children)


xml_leaves = st.builds(
    lambda name, value: node_of(f"<{name}>{xml_carrier.escape(value)}</{name}>", []), words, values
)


def xml_elements(inside: st.SearchStrategy[Node]) -> st.SearchStrategy[Node]:
    attributes = st.dictionaries(words, values, max_size=3).map(
        lambda pairs: [node_of(f'{k}="{xml_carrier.escape(v)}"', []) for k, v in pairs.items()]
    )
    return st.builds(
        lambda name, first, rest: node_of(f"<{name}", first + rest),
        words,
        attributes,
        st.lists(inside, max_size=3),
    )


json_leaves = st.builds(
    lambda key, value: node_of(f"{json.dumps(key)}: {json.dumps(value, ensure_ascii=False)}", []),
    words,
    values | st.integers(0, 10**6) | st.none() | st.booleans() | st.lists(values, min_size=1),
)


def json_objects(inside: st.SearchStrategy[Node]) -> st.SearchStrategy[Node]:
    def of(key: str, sign: str, members: list[Node]) -> Node:
        return node_of(f'"{key}": {sign}', members)

    return st.builds(of, words, st.sampled_from("[{"), st.lists(inside, max_size=4))


CASES = {
    "xml": (Xml(2), st.recursive(xml_leaves, xml_elements, max_leaves=12)),
    "json": (Json(2), st.recursive(json_leaves, json_objects, max_leaves=12)),
}


def is_in_order(nodes: list[Node]) -> bool:
    """Objects of one list stand together, as they are written."""
    heads = [node.text for node in nodes if node.text.endswith("[")]
    runs = [text for at, text in enumerate(heads) if at == 0 or heads[at - 1] != text]
    return len(runs) == len(set(runs)) and all(is_in_order(node.children) for node in nodes)


@pytest.mark.parametrize("name", CASES)
@given(data=st.data())
@settings(max_examples=examples(110))
def test_what_is_written_is_read_again(name: str, data: st.DataObject) -> None:
    """Any tree of nodes; each node's offsets cut out what it was; a strict parser takes it too."""
    carrier, nodes = CASES[name]
    top = data.draw(st.lists(nodes, min_size=1, max_size=3).filter(is_in_order))
    if name == "xml":
        top = [node_of("<root", top)]
    text = carrier.write(top)
    read = carrier.read(text, NO_ROWS)
    assert not read.faults
    assert tree(read.top) == tree(top)
    for node in every(read.top):
        line = text.split("\n")[node.line - 1]
        assert line[node.column - 1 :].startswith(text[node.start : node.start + 2].rstrip())
    if name == "xml":
        ElementTree.fromstring(text)  # noqa: S314 - our own text
    else:
        json.loads(text)


def every(nodes: list[Node]) -> list[Node]:
    return [inner for node in nodes for inner in (node, *every(node.children))]


@pytest.mark.parametrize("name", CASES)
@meets("a fault", "no fault")
@given(data=st.data())
@settings(max_examples=examples(110))
def test_damage_is_said_and_never_fatal(name: str, data: st.DataObject) -> None:
    """Any text, however broken: read in the end, each fault at a place in the text."""
    carrier, nodes = CASES[name]
    text = carrier.write([node_of("<root" if name == "xml" else '"root": {', [data.draw(nodes)])])
    for _ in range(data.draw(st.integers(1, 5))):
        cut = data.draw(st.integers(0, len(text)))
        junk = data.draw(
            st.sampled_from(["", "<", ">", "&", '"', "{", "}", "]", ",", "\n", "</a>"])
        )
        text = text[:cut] + junk + text[cut + data.draw(st.integers(0, 4)) :]
    lines = text.split("\n")
    met("a fault" if carrier.read(text, NO_ROWS).faults else "no fault")
    for fault in carrier.read(text, NO_ROWS).faults:
        assert 1 <= fault.line <= len(lines)
        assert 1 <= fault.column <= len(lines[fault.line - 1]) + 1
        assert 0 <= fault.since <= fault.line
        assert fault.opened is None or 1 <= fault.opened[0] <= fault.line


@given(values)
def test_escapes_stay_in_their_place(value: str) -> None:
    """In an attribute, in an element, in a string; and come back as they were."""
    assert xml_carrier.unescape(xml_carrier.escape(value)) == value
    assert not set(xml_carrier.escape(value)) & set('<>"')
    assert json_carrier.unescape(json_carrier.escape(value)) == value
    assert json.loads(f'"{json_carrier.escape(value)}"') == value
    for carrier in (Xml(), Json()):
        form = carrier.text_form(Text())
        assert form.read(form.write(value)) == value


def test_a_document_type_expands_to_nothing() -> None:
    """It is refused; a reference to what it declares stays as it is written."""
    bomb = '<!DOCTYPE a [<!ENTITY b "bbbb">]>\n<a><c>&b;</c></a>\n'
    read = Xml().read(bomb, NO_ROWS)
    assert any(
        "a document type declaration is not allowed" in fault.message for fault in read.faults
    )
    assert "bbbb" not in str([node.text for node in every(read.top) if node.line == 2])
    with pytest.raises(MalformedValueError, match="an unknown escape"):
        json_carrier.unescape("\\q")


@pytest.mark.parametrize("name", CASES)
@given(data=st.data())
@settings(max_examples=examples(50))
def test_layout_means_nothing_in_a_sound_text(name: str, data: st.DataObject) -> None:
    """However deep each line stands, the signs say what is inside what."""
    carrier, nodes = CASES[name]
    text = carrier.write([node_of("<root" if name == "xml" else '"root": {', [data.draw(nodes)])])
    moved = [
        " " * data.draw(st.integers(0, 6)) + line.lstrip(" ") for line in text.rstrip().split("\n")
    ]
    assert tree(carrier.read("\n".join(moved), NO_ROWS).top) == tree(
        carrier.read(text, NO_ROWS).top
    )


def test_layout_tells_where_a_lost_line_was() -> None:
    """A closing tag or bracket that is gone costs its block's end, not what follows."""
    xml = "<a>\n  <b x='1'>\n    <c>1</c>\n  <b x='2'>\n    <c>2</c>\n  </b>\n</a>\n"
    read = Xml().read(xml, NO_ROWS)
    assert [child.text for child in read.top[0].children] == ["<b", "<b"]
    assert [(fault.line, fault.message) for fault in read.faults] == [(2, "'<b' is not closed")]
    text = '{\n  "a": {\n    "b": 1\n  "c": {\n    "d": 2\n  }\n}\n'
    faults = Json().read(text, NO_ROWS).faults
    assert [fault.line for fault in faults] == [4]
    stray = '{\n  "a": 1x,\n  "b": 2\n}\n'
    read = Json().read(stray, NO_ROWS)
    assert [fault.line for fault in read.faults] == [2]
    assert '"b": 2' in [node.text for node in read.top]


ENDED = notation('block opens "*:" closes "done"')
SIGNS = notation('statement ";"\nblock "{" "}"')
BROKEN = [
    (Xml(), "<a>\n <zne>\n  <c/>\n </zone>\n</a>\n", ["</zone> closes <zne> of line 2"]),
    (Xml(), "<a>\n <b>1</c>\n</a>\n", ["</c> closes <b> of line 2"]),
    (Xml(), "<a>\n </b>\n <b/>\n</a>\n", ["</b> closes nothing here"]),
    (
        Json(),
        '{\n "a": 9x,\n "b": [1, 2y]\n}\n',
        ["'9x' is not a value", "'2y' is not a value"],
    ),
    (Json(), '{\n "a": [\n  {"b": 1},\n  {"b": 2\n ]\n}\n', ["'}' is missing before"]),
    (Json(), '"a": 1\n}\n', ['not expected here: "a"']),
    (Json(), '{\n "a": 1\n "b": 2\n}\n', ['a comma is missing before "b"']),
    (Json(), '{\n "a": [1, 2,\n 3],,\n "b": 2\n}\n', ["there is one comma too many"]),
    (Json(), '{\n "a": [{"b": 1} {"b": 2}]\n}\n', ["a comma is missing before '{'"]),
    (Json(), '{\n "a": [1, 2],\n}\n', ["there is a comma too many before this '}'"]),
    (ENDED, "a:\n  b\ndne\nc:\n  d\ndone\n", ["'dne' closes 'a:' instead of 'done'"]),
    (ENDED, "a:\n  b\nc:\n  d\ndone\n", ["the block 'a:' is not closed with 'done'"]),
    (ENDED, "a:\na:\n  b\ndone\n", ["the block 'a:' is not closed with 'done'"]),
    (ENDED, "a:\n  b\ndone\ndone\n", ["'done' closes nothing here"]),
    (SIGNS, "a {\n  b;\nc {\n  d;\n}\n", ["the block 'a' is not closed with '}'"]),
    (SIGNS, "a { b; } }\n", ["'}' closes nothing here"]),
]
"""A notation, a text in which something is broken, and how what is said of it begins."""


@pytest.mark.parametrize(("carrier", "text", "said"), BROKEN)
def test_what_is_broken_is_said_once(carrier: Notation, text: str, said: list[str]) -> None:
    """And what stands beside it is read all the same."""
    faults = carrier.read(text, NO_ROWS).faults
    assert len(faults) == len(said)
    assert all(f.message.startswith(s) for f, s in zip(faults, said, strict=True)), faults


BY_HAND = [
    ('path " :: "\ncomment "%"', "a  ::  b 1\n% no\na :: c\nd\na\n",
     [("a", [("b 1", []), ("c", [])]), ("d", [])]),
    ('block opens "*:" closes "done"', "a:\n      b:\nc\n  done\n    d\n done\ne\n",
     [("a:", [("b:", [("c", [])]), ("d", [])]), ("e", [])]),
    ('block opens "do *" "at *" closes "end *" "out"', "do a 1\nat b\nc\nout\nend a\nd\n",
     [("do a 1", [("at b", [("c", [])])]), ("d", [])]),
    ('pieces "="\ncomment "~"', "net  b='x y'   a=1\n~ no\n",
     [("net", [("b='x y'", []), ("a=1", [])])]),
    ('heading "[*]"\nassign ": "\ncomment ";"', "x:1\n[a]\nb :2 ; no\n; no\n",
     [("x: 1", []), ("[a]", [("b: 2", [])])]),
    ('statement ";"\nblock "{" "}"\nquote "\'" doubled\ncomment "#"',
     "a {b;c 'x;}';}\nd\n  e; # f;\ng\n{ h; }; i { }\n",
     [("a", [("b", []), ("c 'x;}'", [])]), ("d e", []), ("g", [("h", [])]), ("i", [])]),
    ('block indent 2 dash "-"', "a:\n- b\n  c\n-\n  d\n  - - e\nf\n",
     [("a:", [("-", [("b", []), ("c", [])]), ("-", [("d", [("-", [("-", [("e", [])])])])])]),
      ("f", [])]),
    ('continue "\\\\"\ncomment "#" whole-line', "a \\\n  b # c\n# d \\\ne\n",
     [("a b # c", []), ("e", [])]),
]  # fmt: skip
"""The layout that a header describes, a text as people write it, and what is inside what."""


@pytest.mark.parametrize(("header", "text", "read"), BY_HAND)
def test_each_layout_reads_by_hand(header: str, text: str, read: list[Tree]) -> None:
    """Order, blanks, quotes and remarks, line ends of either kind."""
    for some in (text, text.replace("\n", "\r\n")):
        nodes = notation(header).read(some, NO_ROWS)
        assert tree(nodes.top) == read
        assert not nodes.faults
    for node in every(nodes.top):
        assert some.split("\n")[node.line - 1][node.column - 1 :][:1] == node.text[:1]


@given(
    st.dictionaries(st.from_regex("[a-z]{1,5}[.]n", fullmatch=True), st.lists(words), min_size=1)
)
def test_several_files_in_one_text(files: dict[str, list[str]]) -> None:
    """Taken apart they are what they were; each line knows its file and its number there."""
    texts = {name: "".join(f"{line}\n" for line in lines) for name, lines in files.items()}
    together = in_one_text(texts.items())
    assert {name: text.strip("\n") for name, text in in_files(together)} == {
        name: text.strip("\n") for name, text in texts.items()
    }
    for number, line in enumerate(together.split("\n")[:-1], start=1):
        name, inside = FileMarks(together).file_and_line(number)
        if inside and files[name]:
            assert files[name][inside - 1] == line
