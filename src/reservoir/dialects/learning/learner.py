"""Drafts a sheet from a sample of a device's configuration and the plan that was entered on it.

Every layout that the sample may have is drafted and tried: the draft that reads most of the plan's
values from the sample is the one.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

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
    file: str = "draft.sheet"
    """Where it will be, for messages."""
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
    not_shown: tuple[str, ...]
    """Traits that no text shows."""
    guessed: int
    """Rows that are a guess; each has a remark."""
    problems: tuple[Problem, ...] = ()
    """Why it can't be loaded, if it can't."""
    right: int = 0
    """Values of the plan that it reads from the sample."""
    missing: tuple[str, ...] = ()
    """What the plan says and it doesn't read, each as ``lease of pool mess``."""
    unread: int = 0
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

    body = [*Printer(sample, _has_typed_macs(maker)).lines(rows)]
    header = [*_header(wishes, sample, maker)]
    told = {**shown(rows), **wishes.traits}
    drafted = "\n".join([*header, *_traits(told), "---", *body, ""])
    try:
        device = read_configuration(text, load_sheet(drafted, wishes.file)).device
        told = {**_where_bound(device), **told}
        drafted = "\n".join([*header, *_traits(told), "---", *body, ""])
        sheet = load_sheet(drafted, wishes.file)
    except InputError as error:
        draft = Draft(drafted, layout, questions, _not_shown(told), guessed=_remarks(body))
        return replace(draft, problems=tuple(error.problems), right=len(maker.words_seen))
    reading = read_configuration(text, sheet)
    right, missing = _values_read(reading.device, facts)
    draft = Draft(drafted, layout, questions, _not_shown(told), guessed=_remarks(body))
    return replace(draft, right=right, missing=tuple(missing), unread=len(reading.not_understood))


def _remarks(body: Sequence[str]) -> int:
    return sum(line.startswith("#") for line in body)


def _header(wishes: Wishes, sample: Sample, maker: RowMaker) -> Iterator[str]:
    """The lines of a sheet's header but for the traits."""
    yield f"sheet     {wishes.name}"
    yield 'about     "drafted from a sample"'
    yield from sample.layout.header
    yield from form_words(maker.words_seen)
    if maker.bool_words:
        yield f"bool      {' '.join(map(quoted, maker.bool_words))}"
    yield ""


def _traits(told: Mapping[str, str]) -> Iterator[str]:
    """The lines of the traits: those that are known, and those to be looked up."""
    yield from (f"trait     {name:<14} {value}" for name, value in told.items())
    unknown = _not_shown(told)
    if unknown:
        yield "# No text shows these: ask how the device behaves, or try it."
        yield from (f"trait     {name:<14} {TRAITS[name].default}" for name in unknown)


def _not_shown(told: Mapping[str, str]) -> tuple[str, ...]:
    return tuple(name for name in NOT_SHOWN if name not in told)


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
