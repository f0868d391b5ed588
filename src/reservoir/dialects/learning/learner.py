"""Drafts a sheet from a sample of a device's configuration and the plan that was entered on it.

Every layout that the sample may have is drafted and tried: the draft that reads most of the plan's
values from the sample is the one.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from reservoir.core.plan.model import Plan
from reservoir.core.problems import InputError, Problem
from reservoir.dialects.learning.agreement import Agreement, agreement
from reservoir.dialects.learning.behaviour import not_shown, shown, shown_by
from reservoir.dialects.learning.entered import Known, entered, spans_in
from reservoir.dialects.learning.explaining import Explainer
from reservoir.dialects.learning.forms import form_words, is_typed, with_blanks
from reservoir.dialects.learning.layouts import LayoutGuess, guesses
from reservoir.dialects.learning.lines import quoted
from reservoir.dialects.learning.meanings import Meanings
from reservoir.dialects.learning.placing import placed
from reservoir.dialects.learning.printing import GUESS, NO_ROW, Printer
from reservoir.dialects.learning.questions import Question, settle
from reservoir.dialects.learning.row_maker import RowMaker
from reservoir.dialects.learning.sample import Sample
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.sheet.loader import load_sheet
from reservoir.dialects.sheet.model import Sheet
from reservoir.dialects.trial import try_on


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
    not_shown: Mapping[str, str]
    """Traits that no text shows, with what is taken for them."""
    guessed: int
    """Rows that are a guess; each has a remark."""
    without_row: int
    """Remarks at lines with values of the plan that no row is for."""
    problems: tuple[Problem, ...]
    """Why rows of it can't be used, which stand as remarks; or why it can't be loaded at all."""
    in_vain: tuple[str, ...] = ()
    """Why answers that were given answer nothing."""
    agreement: Agreement | None = None
    """How what it reads from the sample agrees with the plan; None if it can't be loaded."""
    wrong: int = 0
    """What it doesn't do right with the sample: what it doesn't read, or can't write again."""
    changes_nothing: bool = False
    """Whether the sample stays as it is when a plan of what was read is written into it."""

    @property
    def rank(self) -> tuple[float, int]:
        """How good it is: by what it reads, a tenth less if it writes that otherwise."""
        if self.agreement is None:
            return -1, -len(self.problems)
        right = self.agreement.right - len(self.agreement.otherwise) - self.wrong
        return right * (1.0 if self.changes_nothing else 0.9), -len(self.problems)


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
    maker = RowMaker(Explainer(meanings, sample.on_line))
    rows = placed(maker.rows(sample.nodes))
    questions, in_vain = settle(rows, wishes.answers)
    layout_words = {"table", "pieces", "carrier"} & layout.words.keys()
    blanks = frozenset[str]() if layout_words else with_blanks(maker.words_seen)
    body = [*Printer(sample, _has_typed_macs(maker), blanks).lines(rows)]
    header = [*_header(wishes, sample, maker)]
    told = {**shown(rows), **wishes.traits}
    unknown = not_shown(rows, told)
    sheet, drafted, unusable = _loadable(header, [*_traits(told, unknown)], body, wishes)
    if sheet is not None:
        told = {**shown_by(read_configuration(text, sheet).device), **told}
        unknown = not_shown(rows, told)
        sheet, drafted, unusable = _loadable(header, [*_traits(told, unknown)], body, wishes)
    draft = Draft(
        text=drafted,
        layout=layout,
        questions=questions,
        not_shown=unknown,
        guessed=_remarks(body, GUESS),
        without_row=_remarks(body, NO_ROW),
        problems=tuple(unusable),
        in_vain=in_vain,
    )
    if sheet is None:
        return draft
    tried = try_on(text, sheet)
    return replace(
        draft,
        agreement=agreement(tried.reading.device, facts),
        wrong=len(tried.problems),
        changes_nothing=tried.as_planned == text,
    )


def _loadable(
    header: Sequence[str], traits: Sequence[str], body: Sequence[str], wishes: Wishes
) -> tuple[Sheet | None, str, list[Problem]]:
    """The sheet, its text, and what is wrong with rows that had to be made remarks.

    What rows were guessed is for somebody to look at, even if one of them can't be a row. So it is
    a remark, with what is wrong, and the others are tried.
    """
    lines, problems = [*header, *traits, "---", *body, ""], list[Problem]()
    for _ in lines[:]:
        text = "\n".join(lines)
        try:
            return load_sheet(text, wishes.file), text, problems
        except InputError as error:
            first = error.problems[0]
            at = first.place.line - 1
            word, *names = lines[at].split()[:2] or [""]
            if word == "trait" and not wishes.traits.keys() & set(names):
                del lines[at]  # it was shown by a row that is a remark now
                continue
            problems.append(first)
            if at <= lines.index("---"):
                return None, text, problems
            lines[at : _end_of_row(lines, at)] = [
                f"# can't be a row yet: {first.message}",
                *(f"# {line}" for line in lines[at : _end_of_row(lines, at)]),
            ]
    return None, "\n".join(lines), problems


def _end_of_row(lines: Sequence[str], at: int) -> int:
    """The number of the line behind a row and all that is inside it."""

    def depth(line: str) -> int:
        text = line.partition("|")[2]
        return len(text) - len(text.lstrip(" "))

    end = at + 1
    while end < len(lines) - 1 and (lines[end][:1] == "#" or depth(lines[end]) > depth(lines[at])):
        end += 1
    while lines[end - 1][:1] == "#":
        end -= 1
    return end


def _remarks(body: Sequence[str], begins: str) -> int:
    return sum(line.startswith(f"# {begins}") for line in body)


def _header(wishes: Wishes, sample: Sample, maker: RowMaker) -> Iterator[str]:
    """The lines of a sheet's header but for the traits."""
    yield f"sheet     {wishes.name}"
    yield 'about     "drafted from a sample"'
    words = sample.layout.words
    if "quote" in words and _always_quoted(maker, words["quote"]):
        words = {**words, "quote": f"{words['quote']} always"}
    yield from LayoutGuess(words).header
    yield from form_words(maker.words_seen, items_have_signs=words.get("carrier") == "json")
    if maker.bool_words:
        yield f"bool      {' '.join(map(quoted, maker.bool_words))}"
    yield ""


def _always_quoted(maker: RowMaker, quote: str) -> bool:
    """Whether all texts of the sample stand in quotation signs, also those that need not."""
    texts = [word.text for name, word in maker.words_seen if name in ("name", "domain", "note")]
    return len(texts) > 1 and all(
        text[0] == quote.strip('\\"')[:1] or text[0] == '"' for text in texts
    )


def _traits(told: Mapping[str, str], unknown: Mapping[str, str]) -> Iterator[str]:
    """The lines of the traits: those that are known, and those to be looked up."""
    yield from (f"trait     {name:<14} {value}" for name, value in told.items())
    if unknown:
        yield "# No text shows these: ask how the device behaves, or try it."
        yield from (f"trait     {name:<14} {value}" for name, value in unknown.items())


def _has_typed_macs(maker: RowMaker) -> bool:
    macs = [word for name, word in maker.words_seen if name == "mac"]
    return bool(macs) and all(map(is_typed, macs))
