"""Drafts a sheet from a sample of a device's configuration and the plan that was entered on it.

Every layout that the sample may have is drafted and tried: the draft that reads most of the plan's
values from the sample is the one.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from reservoir.core.plan.model import Plan
from reservoir.core.problems import InputError, Problem
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Span
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.learning.behaviour import NOT_SHOWN, shown
from reservoir.dialects.learning.entered import Known, entered, spans_in
from reservoir.dialects.learning.explaining import Explainer, Field
from reservoir.dialects.learning.forms import form_words, is_typed
from reservoir.dialects.learning.layouts import LayoutGuess, guesses, quoted
from reservoir.dialects.learning.meanings import Meanings
from reservoir.dialects.learning.printing import Printer
from reservoir.dialects.learning.questions import Question, settle
from reservoir.dialects.learning.rows import DraftRow, Element, RowMaker
from reservoir.dialects.learning.sample import Sample
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.sheet.loader import load_sheet
from reservoir.dialects.sheet.traits import TRAITS


@dataclass(frozen=True)
class Wishes:
    """What somebody has said of the sheet to be drafted."""

    name: str = "draft"
    layout: Mapping[str, str] = field(default_factory=dict)
    """Words of the header with their values, instead of those that would be guessed."""
    answers: Mapping[int, str] = field(default_factory=dict)
    """Answers to questions, by the line of the sample that each is about."""
    traits: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Draft:
    """A drafted sheet, and what it makes of the sample."""

    text: str
    layout: LayoutGuess
    questions: tuple[Question, ...]
    problems: tuple[Problem, ...]
    """Why it can't be loaded, if it can't."""
    right: int
    """Values of the plan that it reads from the sample."""
    missing: tuple[str, ...]
    """What the plan says and it doesn't read, each as ``lease of pool mess``."""
    unread: int
    """Lines of the sample that it doesn't understand."""

    @property
    def rank(self) -> tuple[bool, int, int]:
        """How good it is."""
        return not self.problems, self.right, -self.unread


def learn(text: str, plan: Plan, device: str, wishes: Wishes) -> Draft:
    """Draft a sheet.

    Args:
        text: A device's configuration.
        plan: What was entered on it.
        device: The device in the plan.
        wishes: What is known of the sheet.
    """
    facts = entered(plan, device)
    facts += spans_in(text, facts)
    layouts = guesses(text, Meanings.of(facts))
    if wishes.layout:
        layouts = [layout.told(wishes.layout) for layout in layouts]
    return max((_drafted(text, facts, each, wishes) for each in layouts), key=lambda d: d.rank)


def _drafted(text: str, facts: Sequence[Known], layout: LayoutGuess, wishes: Wishes) -> Draft:
    """Draft a sheet for one layout, and try it."""
    meanings = Meanings.of(facts, keeps_quotes="carrier" in layout.words)
    sample = Sample(text, layout, meanings)
    maker = RowMaker(Explainer(meanings), sample.on_line)
    rows = _placed(maker.rows(sample.nodes))
    questions = tuple(settle(rows, wishes.answers))

    def drafted(traits: Mapping[str, str]) -> str:
        return "\n".join([*_header(wishes, sample, maker, rows, traits), "---", *body, ""])

    body = [*Printer(sample, _has_typed_macs(maker)).lines(rows)]
    draft = drafted({})
    try:
        device = read_configuration(text, load_sheet(draft, f"{wishes.name}.sheet")).device
        draft = drafted(_where_bound(device))
        sheet = load_sheet(draft, f"{wishes.name}.sheet")
    except InputError as error:
        right = len(maker.words_seen)
        return Draft(draft, layout, questions, tuple(error.problems), right, (), 0)
    reading = read_configuration(text, sheet)
    right, missing = _values_read(reading.device, facts)
    unread = len(reading.not_understood)
    return Draft(draft, layout, questions, (), right, tuple(missing), unread)


def _header(
    wishes: Wishes,
    sample: Sample,
    maker: RowMaker,
    rows: Sequence[DraftRow],
    read: Mapping[str, str],
) -> Iterator[str]:
    """The lines of a sheet's header."""
    yield f"sheet     {wishes.name}"
    yield 'about     "drafted from a sample"'
    yield from sample.layout.header
    is_plain = "carrier" not in sample.layout.words
    yield from form_words(maker.words_seen, is_plain=is_plain)
    if maker.bool_words:
        yield f"bool      {' '.join(map(quoted, maker.bool_words))}"
    yield ""
    told = {**shown(rows), **read, **wishes.traits}
    yield from (f"trait     {name:<14} {value}" for name, value in told.items())
    unknown = [name for name in NOT_SHOWN if name not in told]
    if unknown:
        yield "# The text doesn't show these; they stand as they are usual. Look them up:"
        yield from (f"trait     {name:<14} {TRAITS[name].default}" for name in unknown)


def _has_typed_macs(maker: RowMaker) -> bool:
    macs = [word for name, word in maker.words_seen if name == "mac"]
    return bool(macs) and all(map(is_typed, macs))


def _placed(rows: Sequence[DraftRow]) -> list[DraftRow]:
    """The rows, those that name the pool that they belong to under its row."""
    pool = next((row for top in rows for row in top.walk() if row.kind == "pool"), None)
    if pool is None:
        return list(rows)
    bindings = [row for top in rows for row in top.walk() if row.kind == "binding"]
    for binding in bindings:
        if not any("subnet" in slot for row in binding.walk() for slot in row.slots):
            # One that has a subnet is a pool of its own, with an interface of its own.
            for row in binding.walk():
                row.elements = list(map(_of_pool, row.elements))
    top: list[DraftRow] = []
    for row in rows:
        inner = [*row.walk()]
        names = (slot for each in inner for slot in each.slots if slot.startswith("pool."))
        (top if pool in inner or not any(names) else pool.rows).append(row)
    return top


def _of_pool(element: Element) -> Element:
    return (Field("pool.interface"),) if element == (Field("interface"),) else element


def _where_bound(device: Fact) -> Mapping[str, str]:
    """Where bound addresses are, if all of them are among what is excluded or outside of ranges."""

    def spans(kind: str) -> AddressSet:
        facts = (fact for fact in device.walk() if fact.kind == kind)
        both = ((fact.get("first"), fact.get("last")) for fact in facts)
        return AddressSet(Span(a, b) for a, b in both if a is not None and b is not None and a <= b)

    bound = AddressSet.of_addresses(
        [f.fields["address"] for f in device.walk() if f.kind == "binding" and "address" in f.fields]
    )
    excluded, ranges = spans("exclusion"), spans("range")
    if bound and bound <= excluded:
        return {"bound-address": "excluded"}
    return {"bound-address": "outside-ranges"} if bound and ranges and not bound & ranges else {}


_UNSAID = frozenset({"service", "count", "offset", "enabled", "interface"})
"""Fields that no device needs to be told of."""


def _values_read(device: Fact, facts: Sequence[Known]) -> tuple[int, list[str]]:
    """How many values of known facts were read, and what of the plan was not.

    Those of each fact count once, from what was read that is most like it.
    """
    by_value: dict[tuple[str, str, object], list[Known]] = {}
    for known in facts:
        for name, value in known.fields.items():
            by_value.setdefault((known.kind, name, value), []).append(known)
    read: dict[Known, set[str]] = {}
    for fact in (device, *device.walk()):
        agreeing: Counter[Known] = Counter()
        for name, value in fact.fields.items():
            agreeing.update(by_value.get((fact.kind, name, value), ()))
        for known, count in agreeing.most_common(1):
            if count > len(read.get(known, ())):
                said = {n for n, v in fact.fields.items() if known.fields.get(n) == v}
                read[known] = said
    missing = [
        f"{name} of {_label(known)}"
        for known in facts
        if known.is_planned
        for name in known.fields
        if name not in read.get(known, ()) and name not in known.added | _UNSAID
    ]
    return sum(map(len, read.values())), missing


def _label(known: Known) -> str:
    return Fact(known.kind, {n: v for n, v in known.fields.items() if n in KINDS[known.kind].fields}).label
