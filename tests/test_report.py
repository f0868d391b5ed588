"""The document for the change request: what is in it, and that nothing breaks out of its place."""

from __future__ import annotations

import json
import re
import subprocess
from collections import Counter
from collections.abc import Callable
from html.parser import HTMLParser
from importlib import resources
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest

import reservoir
from conftest import Run, made_once, program
from reservoir.core.plan.model import format_path
from reservoir.core.space import KINDS
from reservoir.core.values.durations import parse_duration

Put = Callable[[str, str], Path]

CHANGE = (
    "--running", "running/pier-router.larkspur", "--leases", "running/leases.csv",
    "--now", "2027-03-31T12:00:00+00:00",
)  # fmt: skip

VOID = {"meta", "link", "br", "img"}


class Page(HTMLParser):
    """A page taken apart: its elements, its text; complains where it isn't well formed."""

    def __init__(self, text: str) -> None:
        super().__init__(convert_charrefs=True)
        self.tables: dict[str, list[list[str]]] = {}
        """The rows of each table, its heads first, by its caption."""
        self.open: list[str] = []
        self.elements: list[tuple[str, dict[str, str]]] = []
        self.words: list[str] = []
        self.pre: list[str] = []
        self.feed(text)
        self.close()
        assert self.open == []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.elements.append((tag, {key: value or "" for key, value in attrs}))
        if tag not in VOID:
            self.open.append(tag)
        if tag == "pre":
            self.pre.append("")
        if tag == "caption":
            self.tables[""] = []
        if tag == "tr":
            self.tables[next(reversed(self.tables))].append([])
        if tag in ("th", "td"):
            self.tables[next(reversed(self.tables))][-1].append("")

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        self.words.append(data)
        if "pre" in self.open:
            self.pre[-1] += data
        if self.open[-1:] == ["caption"]:
            self.tables[data] = self.tables.pop("")
        if set(self.open) & {"th", "td"}:
            self.tables[next(reversed(self.tables))][-1][-1] += data

    @property
    def text(self) -> str:
        """What is read, with blanks as one."""
        return " ".join("".join(self.words).split())

    def of(self, tag: str) -> list[dict[str, str]]:
        """The attributes of each element of a tag."""
        return [attributes for name, attributes in self.elements if name == tag]


@pytest.fixture(scope="session")
def report_page(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The page of the demo's corrected plan, with what runs and who has a lease."""

    def make(folder: Path) -> None:
        laid_out(folder)
        made = program(folder, "report", "right/ferry-line.yaml", *CHANGE, "-o", "report.html")
        assert made.code == 0, made.err

    return made_once(tmp_path_factory, "report", make) / "report.html"


@pytest.fixture
def demo(tmp_path: Path) -> Path:
    """The demo's files, as `reservoir demo` lays them out."""
    return laid_out(tmp_path)


def laid_out(tmp_path: Path) -> Path:
    for folder in ("right", "hurried", "running"):
        (tmp_path / folder).mkdir()
        for file in (resources.files("reservoir.demo") / folder).iterdir():
            if not file.name.startswith("__"):
                (tmp_path / folder / file.name).write_bytes(file.read_bytes())
    return tmp_path


def test_the_page_needs_nothing_else_and_reads_without_sight(report_page: Path) -> None:
    """No script and no address outside; a language, headings in order, names for what is there."""
    text = report_page.read_text()
    page = Page(text)
    tags = Counter(tag for tag, _ in page.elements)
    assert tags["script"] == tags["iframe"] == tags["style"] - 1 == 0
    for tag, attributes in page.elements:
        for key in ("src", "href"):
            assert attributes.get(key, "#").startswith(("#", "data:")), (tag, attributes)
        assert not any(key.startswith("on") for key in attributes)
    assert not re.search(r"url\(|@import", text)
    assert page.of("html") == [{"lang": "en"}]
    levels = [int(tag[1]) for tag, _ in page.elements if re.fullmatch("h[1-6]", tag)]
    assert levels[0] == 1
    assert levels.count(1) == 1
    assert all(after <= before + 1 for before, after in pairwise(levels))
    ids = [attributes["id"] for _, attributes in page.elements if "id" in attributes]
    assert len(ids) == len(set(ids))
    links = {a["href"][1:] for a in page.of("a")}
    assert links <= set(ids)
    assert {section["id"] for section in page.of("section")} == links
    assert all(image["alt"] for image in page.of("img"))
    assert len(page.of("img")) == 3
    assert all(cell.get("scope") in ("row", "col") for cell in page.of("th"))
    assert tags["table"] == tags["caption"]
    for region in (*page.of("pre"), *(d for d in page.of("div") if "tabindex" in d)):
        assert region["role"] == "region"
        assert region["aria-label"]
    again = program(report_page.parent, "report", "right/ferry-line.yaml", *CHANGE)
    assert again.out == text


def test_the_document_has_it_all(report_page: Path) -> None:
    """What was checked, sizes, rehearsal, what changes and who notices, each configuration."""
    page = Page(report_page.read_text())
    for said in (
        "No findings in 12 networks on 5 devices",
        "gateway-in-pool",  # of the rules that were checked
        "no address that two would have",
        "11 networks sized, each is large enough.",
        "tills: it states no demand",
        "12 networks rehearsed, no client failed",
        "3 of 4 networks differ",
        "9 networks of other devices not compared",
        "mast-camera",  # a client that notices
        "pier-router (larkspur,",
    ):
        assert said in page.text, said
    written = program(report_page.parent, "write", "right/ferry-line.yaml", "--out", "-").out
    assert len(page.pre) == 5
    assert "\n".join(page.pre) == written


def test_findings_come_with_their_remedies(run: Run, demo: Path) -> None:
    """Each finding of `check`, its example and fix; a plan with errors isn't written."""
    made = run("report", "hurried/ferry-line.yaml")
    assert made.code == 0
    page = Page(made.out)
    subject = reservoir.load(demo / "hurried" / "ferry-line.yaml")
    for finding in reservoir.check(subject).findings:
        assert " ".join(finding.message.split()) in page.text
        for suggestion in finding.suggestions:
            assert f"at {format_path(suggestion.path)} " in page.text
    assert "remedy: Bind one of them to another address." in page.text
    assert "No configuration is written: the plan has errors." in page.text
    assert "staff: 10.84.50.0-10.84.50.127 claimed twice" in page.text
    assert page.pre == []


NASTY = """
name: "</title><script>alert(1)</script> & co"
devices:
  "<img src=x>":
    dialect: larkspur
    interfaces: {lan: {address: 10.84.30.1/24}}
networks:
  "a|b `c` <b>":
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    served_by: "<img src=x>"
    ranges: [10.84.30.20-99]
    dns: []
    lease: 1h
    demand: {walk_in: {rate: 4/h, stay: 25m}}
    bindings: [{name: "'\\"><svg onload=1>", mac: 00:00:5e:00:53:01, address: 10.84.30.150}]
accept:
  - {rule: client-randomised, at: networks, because: "[x](javascript:alert(1))"}
"""


def test_texts_of_a_plan_stay_texts(run: Run, put: Put) -> None:
    """Whatever names there are: no element of a page, in Markdown no link, cell or fence."""
    put("plan.yaml", NASTY)
    made = run("report", "plan.yaml")
    assert made.code == 0, made.err
    page = Page(made.out)
    tags = {tag for tag, _ in page.elements}
    assert not tags & {"script", "b", "svg", "object"}
    assert all(image["src"].startswith("data:image/svg+xml;base64,") for image in page.of("img"))
    assert "</title><script>alert(1)</script> & co" in page.text
    assert "a|b `c` <b>" in page.text
    assert "svg-onload-1" in page.pre[0]
    markdown = run("report", "plan.yaml", "--format", "markdown").out
    live = re.sub(r"(?s)(`+).+?\1", "", markdown).replace("\\<", "")
    assert not re.search("<(script|img|b|svg)", live)
    assert "](javascript:" not in markdown
    rows = [line for line in markdown.splitlines() if line.startswith("| a")]
    assert rows
    assert all("a\\|b" in row for row in rows)


def test_markdown_has_the_same_sections(run: Run, demo: Path, report_page: Path) -> None:
    """In their order, with tables of as many cells in each row."""
    page = Page(report_page.read_text())
    shown = run("report", "right/ferry-line.yaml", *CHANGE, "--format", "markdown")
    assert shown.code == 0
    titles = re.findall("^## (.*)$", shown.out, re.MULTILINE)
    assert titles == [
        "Verdict", "Summary", "Findings", "Address space", "Sizes", "Rehearsal",
        "What changes, and who notices", "Leases", "Configuration",
    ]  # fmt: skip
    assert all(title in page.text for title in titles)
    lines = shown.out.splitlines()
    for above, below in pairwise(lines):
        if above.startswith("| ") and below.startswith("| "):
            cells = [len(re.findall(r"(?<!\\)\|", line)) for line in (above, below)]
            assert cells[0] == cells[1], (above, below)
    assert shown.out.count("```") == 10
    larkspur = run("write", "right/ferry-line.yaml", "--out", "-", "--device", "pier-router").out
    assert larkspur.strip() in shown.out


def answers_of(text: str) -> tuple[str, dict[str, str]]:
    """The verdict of a document in Markdown, and its answers by question."""
    part = text.partition("## Verdict\n")[2].partition("\n## ")[0]
    rows = [line.strip("| ").split(" | ") for line in part.splitlines() if line.startswith("| ")]
    return part.split("**")[1], {row[0]: row[1] for row in rows[2:]}


SMALL = """\
defaults: {dns: none, lease: 12h}
devices: {pier: {DIALECT interfaces: {deck: {address: 10.84.30.1/24}}}}
networks:
  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, served_by: pier, demand: {devices: 5},
    ranges: [10.84.30.10-10.84.30.LAST]}
"""


def test_a_board_reads_the_verdict_first(run: Run, put: Put) -> None:
    """Ready only if nothing speaks against it; what isn't known is said to be not known."""

    def verdict(dialect: str, last: str, *more: str) -> tuple[str, dict[str, str]]:
        put("plan.yaml", SMALL.replace("DIALECT", dialect).replace("LAST", last))
        return answers_of(run("report", "plan.yaml", *more, "--format", "markdown").out)

    said, answers = verdict("dialect: larkspur,", "99")
    assert said == "Ready."
    assert "no error" in answers["Why"].lower()
    assert answers["Who notices"].startswith("Not known")
    assert answers["The way back"].startswith("Not known")
    wrote = run("write", "plan.yaml")
    assert wrote.code == 0
    (running,) = (put("unused.txt", "").parent / "configuration").glob("pier.*")
    kept = put("running.larkspur", running.read_text())
    _, answers = verdict("dialect: larkspur,", "99", "--running", kept.name)
    assert answers["The way back"] == "Nothing changes."
    said, answers = verdict("dialect: larkspur,", "12", "--running", kept.name)
    assert said == "Not ready."
    assert "too few addresses in crew" in answers["Why not"]
    assert answers["By hand"] == "Nothing is written to deploy yet."
    put("moved.yaml", SMALL.replace("DIALECT", "dialect: larkspur,").replace(".10-", ".60-")
        .replace("LAST", "99"))  # fmt: skip
    moved = run("report", "moved.yaml", "--running", kept.name, "--format", "markdown").out
    said, answers = answers_of(moved)
    assert said == "Ready, with what is noted below."
    assert "lose their address or their server in crew" in answers["To note"]
    assert "no list of leases" in answers["Who notices"]
    said, answers = verdict("", "99")
    assert said == "Not ready."
    assert answers["By hand"].startswith("pier: without a dialect")


def test_the_documents_numbers_are_those_of_the_commands(report_page: Path) -> None:
    """Sizes, address space and rehearsal: each cell beside what the command says as JSON."""
    page, folder = Page(report_page.read_text()), report_page.parent

    def of_command(*arguments: str) -> list[dict[str, Any]]:
        ended = program(folder, *arguments, "right/ferry-line.yaml", "--format", "json")
        return list(json.loads(ended.out)["networks"])

    sizes = {one["network"]: one for one in of_command("size")}
    heads, *rows = page.tables["Addresses needed, and what there are"]
    assert [row[0] for row in rows] == list(sizes)
    for row in rows:
        said, known = dict(zip(heads, row, strict=True)), sizes[row[0]]
        assert number(said["Addresses"]) == known["assignable"] + known["bound"] + known["shared"]
        assert number(said["Peak"]) == known["peak"]
        assert said["At"] == (known["peak_at"] or "-")
        assert number(said["Needed"]) == known["smallest_range"]
        assert number(said["With headroom"]) == known["with_headroom"]
        assert said["Prefix"] == f"/{known['prefix']}"
        assert parse_duration(said["Lease"]) == known["lease"]
        assert parse_duration(said["Longest"]) == known["longest_lease"]
    space = {one["network"]: one for one in of_command("map")}
    heads, *rows = page.tables["Addresses by what they are for"]
    assert [row[0] for row in rows] == list(space)
    for row in rows:
        said, known = dict(zip(heads, row, strict=True)), space[row[0]]
        assert said["Subnet"] == known["subnet"]
        counts = {kind: number(said[kind.capitalize()]) for kind in KINDS}
        assert counts == known["counts"]
    lived = {one["network"]: one for one in of_command("rehearse")}
    heads, *rows = page.tables["What clients got from simulated devices"]
    for row in rows:
        said, known = dict(zip(heads, row, strict=True)), lived[row[0]]
        assert number(said["Clients"]) == known["clients"]
        assert number(said["Served"]) == known["served"]
        assert said["Addresses"] == (known["span"] or "-")


def number(text: str) -> int:
    return int(text.replace(",", ""))


def test_both_forms_of_the_document_have_the_same_tables(
    run: Run, demo: Path, report_page: Path
) -> None:
    """Cell by cell, once Markdown's signs are taken for what they stand for."""
    page = Page(report_page.read_text())
    markdown = run("report", "right/ferry-line.yaml", *CHANGE, "--format", "markdown").out
    tables: list[list[list[str]]] = [[]]
    for line in markdown.splitlines():
        if line.startswith("| "):
            cells = re.split(r"(?<!\\)\|", line)[1:-1]
            tables[-1].append([" ".join(unmarked(cell).split()) for cell in cells])
        elif tables[-1]:
            tables.append([])
    shown = [[heads, *rows] for heads, _, *rows in filter(None, tables)]
    expected = [[[" ".join(c.split()) for c in row] for row in t] for t in page.tables.values()]
    assert shown == expected


def unmarked(cell: str) -> str:
    """A cell of a Markdown table as it is shown."""
    return re.sub(r"\\(.)", r"\1", re.sub("`+ ?(.+?) ?`+", r"\1", cell))


def test_calls_that_cannot_be_used(run: Run, demo: Path) -> None:
    """A document is of a plan; what is wrong is said, and no page is left."""
    wrong = run("report", "running/pier-router.larkspur", "-o", "x.html")
    assert (wrong.code, "is not a plan" in wrong.err) == (2, True)
    wrong = run("report", "right/ferry-line.yaml", "--running", "none.cfg", "-o", "x.html")
    assert wrong.code == 2
    wrong = run("report", "right/ferry-line.yaml", "--leases", "right/bindings.csv", "--columns",
                "mac=HW", "-o", "x.html")  # fmt: skip
    assert wrong.code == 2
    assert not (demo / "x.html").exists()


def test_a_plan_of_many_networks_has_a_table_instead_of_a_figure(run: Run, put: Put) -> None:
    """A figure of more than four hundred bars shows nobody anything; the first days are drawn."""
    walk_in = "demand: {walk_in: {rate: 4/h, stay: 25m}}"
    networks = [
        f"  n{i}: {{subnet: 10.{i >> 8}.{i & 255}.0/24, ranges: [10.{i >> 8}.{i & 255}.9-99], "
        f"lease: 1h{f', {walk_in}' if i < 13 else ''}}}"
        for i in range(401)
    ]
    put("plan.yaml", "\n".join(["defaults: {dns: []}", "networks:", *networks]) + "\n")
    page = Page(run("report", "plan.yaml").out)
    assert [image["alt"].split(":")[0] for image in page.of("img")] == [
        f"the day of n{i}" for i in range(12)
    ]
    assert "n400 10.1.144.0/24" in page.text


def test_what_is_accepted_and_what_leases_contradict_is_told(run: Run, put: Put) -> None:
    """Accepted findings with their reason; a lease list without anything to compare it with."""
    put(
        "plan.yaml",
        """
defaults: {dns: []}
devices: {pier: {interfaces: {lan: {address: 10.84.30.1/24}}}}
networks:
  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.9, served_by: pier, ranges: [10.84.30.20-99]}
accept:
  - {rule: gateway-unattended, at: networks.crew, because: the router comes on Monday}
  - {rule: demand-unknown, at: networks, because: nobody knows}
""",
    )
    put("leases.csv", "mac,address\n00:00:5e:00:53:01,10.84.30.200\n")
    page = Page(run("report", "plan.yaml", "--leases", "leases.csv").out)
    assert "(the router comes on Monday)" in page.text
    assert "leases.csv:2: " in page.text
    assert "No configuration is written: no device has a dialect." in page.text
    assert "What changes" not in page.text
    assert "Leases of each network" in page.text


def test_a_browser_has_nothing_to_complain_of(
    browser: str, report_page: Path, tmp_path: Path
) -> None:
    """In headless Chromium, with the console's messages printed."""
    ended = subprocess.run(
        [browser, "--headless=new", "--no-sandbox", "--disable-gpu", "--enable-logging=stderr",
         f"--user-data-dir={tmp_path}/profile", "--dump-dom", f"file://{report_page}"],
        capture_output=True, text=True, check=True, timeout=120,
    )  # fmt: skip
    assert "CONSOLE" not in ended.stderr
    assert "What changes, and who notices" in ended.stdout
