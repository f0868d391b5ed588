"""Drafts a part leases from a table that a device printed, and a list of the same leases.

The list says whose each address is, so the learner of configuration finds the values of the table
as it finds a plan's. Times are told by their looks alone, in a lease's stretch of the table.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import product

from reservoir.core.leases.table import NO_MAC, LeaseTable
from reservoir.core.problems import InputError, Problem
from reservoir.core.values.addresses import MalformedValueError, address_or_none
from reservoir.core.values.clients import Mac
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.forms.moments import MomentForm
from reservoir.dialects.learning.entered import Known
from reservoir.dialects.learning.explaining import Explainer
from reservoir.dialects.learning.forms import form_words, with_blanks
from reservoir.dialects.learning.layouts import LayoutGuess, guesses
from reservoir.dialects.learning.lines import quoted
from reservoir.dialects.learning.meanings import Meanings, times_in
from reservoir.dialects.learning.printing import GUESS, Printer
from reservoir.dialects.learning.row_maker import RowMaker
from reservoir.dialects.learning.sample import Sample
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.sheet.loader import load_sheet
from reservoir.dialects.sheet.model import Sheet

_ADDRESS = re.compile(r"(?<![0-9A-Za-z.])[0-9]{1,3}(?:\.[0-9]{1,3}){3}(?![0-9A-Za-z])")

_MAC = re.compile(r"(?:[0-9A-Fa-f]{2,12}[:.-])+[0-9A-Fa-f]{2,12}|\b[0-9A-Fa-f]{12}\b")

_DATES = (
    "{year}-{month}-{day}", "{year}/{month}/{day}", "{year}.{month}.{day}",
    "{day}.{month}.{year}", "{day}/{month}/{year}", "{month}/{day}/{year}", "{day}-{month}-{year}",
    "{day} {month-name} {year}", "{month-name} {day} {year}", "{day}-{month-name}-{year}",
)  # fmt: skip
_CLOCKS = ("{hour}:{minute}:{second}", "{hour}:{minute}")
_OFFSETS = ("{offset}", " {offset}", "Z", "")
TEMPLATES = (
    *("".join(way) for way in product(_DATES, ("T", " "), _CLOCKS, _OFFSETS)),
    "{seconds-since-1970}",
)
"""How points in time may be written, what says most first."""

_SECONDS = "[12][0-9]{9}"
"""Seconds since 1970 of the years that leases are of."""

_AROUND = """sheet     draft
about     "a table of leases"
---
pool *    | pool {name}
"""
"""A sheet that a part can be tried in."""


@dataclass(frozen=True)
class PartDraft:
    """A drafted part, and what it makes of the table."""

    text: str
    """The part, to stand at the end of a sheet."""
    layout: LayoutGuess
    guessed: int
    """Rows that are a guess; each has a remark."""
    problems: tuple[Problem, ...]
    """Why it can't be loaded."""
    right: int
    """Values of the list that are read from the table as the list has them."""
    missing: tuple[str, ...]
    """Leases of the list whose address stands in the table and isn't read."""


def learn_leases(text: str, leases: LeaseTable) -> PartDraft:
    """Draft a part leases.

    Args:
        text: A table of leases as a device prints it.
        leases: The same leases, or some of them.
    """
    template = moment_template(text)
    facts = _facts(text, leases, template)
    drafts = [_drafted(text, facts, each, template) for each in guesses(text, Meanings.of(facts))]
    return max(drafts, key=lambda d: (not d.problems, d.right, -len(d.missing)))


def moment_template(text: str) -> str:
    """How points in time are written in a text; empty if there are none."""
    counts = {template: len(_looks(template).findall(text)) for template in TEMPLATES}
    most = max(counts.values())
    fitting = [template for template, count in counts.items() if count == most]
    return next((each for each in fitting if _reads_all(each, text)), "") if most else ""


def _reads_all(template: str, text: str) -> bool:
    """Whether all that looks like a template is a time: no month is above 12."""
    form = MomentForm(template, is_utc=template.endswith("Z"))
    try:
        return bool([form.read(found) for found in _looks(template).findall(text)])
    except MalformedValueError:
        return False


def _looks(template: str) -> re.Pattern[str]:
    is_bare = template == "{seconds-since-1970}"
    pattern = _SECONDS if is_bare else MomentForm(template).pattern
    return re.compile(f"(?<![0-9A-Za-z]){pattern}(?![0-9A-Za-z:])")


def _facts(text: str, leases: LeaseTable, template: str) -> list[Known]:
    """The leases of the list that stand in the table, in a device that comes first."""
    device = Known("device", {})
    rows = dict(zip(leases.address.tolist(), range(len(leases)), strict=True))
    found = [device]
    stretches = _stretches(text, leases, rows)
    looks = _looks(template) if template else None
    for row, stretch in stretches:
        fields: dict[str, object] = {"address": int(leases.address[row])}
        if (mac := int(leases.mac[row])) != NO_MAC:
            fields["mac"] = Mac(mac)
        if isinstance(client := leases.client_at(row), bytes):
            fields["client_id"] = client
        fields |= {name: value for name, value in (
            ("name", leases.name[row]), ("server", leases.server[row])) if value}  # fmt: skip
        if looks is not None:
            moments = sorted(looks.findall(stretch), key=_order(template))
            fields |= dict(zip(("expires", "starts"), moments[::-1], strict=False))
        elif (left := _left(stretch, leases, row)) is not None:
            fields["left"] = left
        found.append(Known("lease", fields, (device,)))
    return found


def _stretches(text: str, leases: LeaseTable, rows: dict[int, int]) -> Iterator[tuple[int, str]]:
    """The rows of leases in the order of the table, each with the text up to the next one.

    A lease begins with its client or its address, whichever stands first.
    """
    starts: dict[int, int] = {}
    before = 0
    for found in _ADDRESS.finditer(text):
        row = rows.get(address_or_none(found[0]) or 0)
        if row is not None and row not in starts:
            starts[row] = _client_at(text, before, found.start(), int(leases.mac[row]))
            before = found.end()
    ends = [*starts.values(), len(text)][1:]
    for (row, at), end in zip(starts.items(), ends, strict=True):
        yield row, text[at:end]


def _client_at(text: str, begin: int, end: int, mac: int) -> int:
    """Where a MAC address stands in a stretch of a text; the stretch's end if it isn't there."""
    for found in _MAC.finditer(text, begin, end):
        if re.sub("[^0-9a-f]", "", found[0].lower()).endswith(f"{mac:012x}"):
            return found.start()
    return end


def _order(template: str) -> Callable[[str], str]:
    form = MomentForm(template, is_utc=template.endswith("Z"))
    return form.read


def _left(stretch: str, leases: LeaseTable, row: int) -> int | None:
    """The time left in a lease's stretch of the table: the only one there; None if there's none."""
    rest = _ADDRESS.sub(" ", stretch)
    rest = _MAC.sub(" ", rest)
    if name := leases.name[row]:
        rest = rest.replace(name, " ")
    times = list(times_in(rest))
    return times[0] if len(times) == 1 else None


def _drafted(text: str, facts: Sequence[Known], layout: LayoutGuess, template: str) -> PartDraft:
    """Draft the part for one layout, and try it."""
    meanings = Meanings.of(facts, keeps_quotes="carrier" in layout.words)
    sample = Sample(text, layout, meanings)
    maker = RowMaker(Explainer(meanings, sample.on_line))
    rows = maker.rows(sample.nodes)
    apart = {"table", "pieces", "carrier"} & layout.words.keys()
    blanks = frozenset[str]() if apart else with_blanks(maker.words_seen)
    body = [*_remarked(Printer(sample, False, blanks - {"starts", "expires"}).lines(rows))]
    items = layout.words.get("carrier") == "json"
    words = [*layout.header, *form_words(maker.words_seen, items_have_signs=items)]
    if template and any(name in ("starts", "expires") for name, _ in maker.words_seen):
        clock = " clock utc" if template.endswith("Z") else ""
        words.append(f"moment    {quoted(template)}{clock}")
    part = "\n".join(["part leases", *words, *body, ""])
    guessed = sum(line.startswith(f"# {GUESS}") for line in body)
    try:
        sheet = load_sheet(f"{_AROUND}\n{part}", "the draft")
    except InputError as error:
        return PartDraft(part, layout, guessed, tuple(error.problems), 0, ())
    right, missing = _tried(text, facts, sheet)
    return PartDraft(part, layout, guessed, (), right, missing)


def _remarked(body: Iterable[str]) -> Iterator[str]:
    """The rows, with a remark at those of a lease that are the same in each: perhaps its state."""
    is_inside = False
    for line in body:
        margin, _, row = line.partition("|")
        is_inside = is_inside or margin.startswith("lease")
        if is_inside and not margin.strip() and "{" not in row.replace("{{", ""):
            yield f"# {GUESS}: all leases have this; if it is their state, write {{state}}, and"
            yield "# above, among the words of the part: words lease.state active=WORD"
        yield line


def _tried(text: str, facts: Sequence[Known], sheet: Sheet) -> tuple[int, tuple[str, ...]]:
    """How many values of the list are read from the table, and the leases that are not."""
    read = read_configuration(text, sheet.leases[0]).device.of_kind("lease")
    by_address = {fact.get("address"): fact.fields for fact in read}
    right, missing = 0, list[str]()
    for known in facts[1:]:
        said = by_address.get(known.fields["address"])
        if said is None:
            missing.append(Fact("lease", known.fields).label)
            continue
        right += sum(
            name in said if name in ("starts", "expires") else said.get(name) == value
            for name, value in known.fields.items()
        )
    return right, tuple(missing)
