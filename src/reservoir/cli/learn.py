"""``reservoir dialect learn``: a sheet drafted from an example."""

from __future__ import annotations

import re
import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from reservoir.cli.output import complain, save_or_show, talk, talkative
from reservoir.cli.trying import try_sample

if TYPE_CHECKING:
    from reservoir.core.plan.model import Plan
    from reservoir.dialects.learning.learner import Draft, Wishes
    from reservoir.dialects.learning.questions import Question


class Pair(click.ParamType[tuple[str, str]]):
    """Two words with a sign between them: ``21=service``, ``heading=[*]``."""

    name = "pair"

    def __init__(self, example: str, key: str) -> None:
        """Take an example for messages, and a pattern for what stands before the sign."""
        self.example, self.key = example, key

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> tuple[str, str]:
        """The two."""
        if isinstance(value, tuple):
            return value
        before, sign, behind = value.partition("=")
        if not (sign and behind.strip() and re.fullmatch(self.key, before)):
            self.fail(f"{value!r} is not like {self.example}", param, ctx)
        return before, behind


@click.command("learn", short_help="Draft a sheet from an example.")
@click.argument("sample", required=False)
@click.option("--plan", "plan_file", metavar="PLAN", help="What was entered on the device.")
@click.option(
    "--device", metavar="NAME", help="The device in the plan (default: the one that serves)."
)
@click.option(
    "--leases", metavar="LIST", help="A lease list: learn how the device prints these leases."
)
@click.option("--plan-for-sample", is_flag=True, help="Print the plan to enter on the device.")
@click.option("--name", metavar="NAME", help="The dialect's name (default: the file's).")
@click.option(
    "--layout",
    type=Pair("--layout 'block=indent 2'", "[a-z]+"),
    multiple=True,
    metavar="WORD=VALUES",
    help="A layout word as in a sheet's header, or none, instead of the one guessed.",
)
@click.option(
    "--answer",
    type=Pair("--answer 21=service", "[0-9]{1,9}"),
    multiple=True,
    metavar="LINE=WORD",
    help="The answer to the question about a line of the sample.",
)
@click.option(
    "--trait",
    type=Pair("--trait bound-address=inside", "[a-z-]+"),
    multiple=True,
    metavar="NAME=VALUE",
    help="How the device behaves, where no text shows it.",
)
@click.option("--yes", is_flag=True, help="Ask nothing; take what is likeliest.")
@click.option("-o", "--out", metavar="FILE", help="Write the sheet, or the plan, to a file.")
@click.option("--force", is_flag=True, help="Overwrite a file that was edited since.")
@talkative
def learn_sheet(
    sample: str | None,
    plan_file: str | None,
    device: str | None,
    leases: str | None,
    plan_for_sample: bool,
    name: str | None,
    layout: tuple[tuple[str, str], ...],
    answer: tuple[tuple[str, str], ...],
    trait: tuple[tuple[str, str], ...],
    yes: bool,
    out: str | None,
    force: bool,
) -> None:
    """Draft a sheet from SAMPLE, a device's configuration that does what PLAN says.

    First enter a plan on the device by hand: the one that --plan-for-sample prints is the best, as
    all its values differ. Then save the device's configuration and have it read. Each row that is
    a guess has a remark. What is in doubt is asked on a terminal; each question is an option too.
    With --leases, SAMPLE is a table of leases instead, and the part leases of a sheet is drafted.

    \b
    Examples:
      reservoir dialect learn --plan-for-sample -o sample-plan.yaml
      reservoir dialect learn quay-box.txt --plan sample-plan.yaml -o dialects/quay.sheet
      reservoir dialect learn quay-box.txt --plan sample-plan.yaml --answer 12=service
        --trait bound-address=inside
      reservoir dialect learn printed.txt --leases leases.csv

    Exit status: 0 the draft reads all of the sample, 1 it doesn't yet, 2 unusable input.
    """
    from reservoir.dialects.learning.learner import Wishes, learn  # late: --help needs none of it

    if plan_for_sample:
        _show_plan(sample, out, force)
        return
    if leases is not None:
        if plan_file is not None:
            raise click.UsageError("--leases and --plan are for two parts of a sheet: give one.")
        if sample is None:
            raise click.UsageError("Give the table that the device printed, and --leases.")
        _learn_leases(sample, leases, out, force)
        return
    if sample is None or plan_file is None:
        raise click.UsageError("Give a sample and --plan, or --plan-for-sample.")
    from reservoir.files.texts import read_text

    text, plan = read_text(sample), _plan(plan_file)
    wishes = Wishes(
        name=_name(name, out, sample),
        file=out if out not in (None, "-") else "the draft",
        layout=dict(layout),
        answers={int(line): word for line, word in answer},
        traits=_known_traits(dict(trait)),
    )
    _require_layout(wishes)
    draft = learn(text, plan, _device(plan, device), wishes)
    _require_values(draft, sample, plan_file)
    for message in draft.in_vain:
        raise click.UsageError(f"{message[0].upper()}{message[1:]} (--answer).")
    if sys.stdin.isatty() and not yes:
        for ask in (_ask_what_is_in_doubt, _ask_what_no_text_shows):
            wishes = ask(draft, wishes)
            draft = learn(text, plan, _device(plan, device), wishes)
    _put(draft.text, out, force)
    _say(draft, sample)
    if draft.agreement is None or _is_wrong(draft, wishes.file, sample):
        raise click.exceptions.Exit(1)
    if out not in (None, "-"):
        first = f"look at the remarks in {out}, then " if draft.guessed or draft.without_row else ""
        talk(f"Next: {first}reservoir read FILE --dialect {wishes.name}")


def _learn_leases(sample: str, leases: str, out: str | None, force: bool) -> None:
    """Draft a part leases from a table, and say what it reads of it."""
    from reservoir.core.problems import InputError, Place, Problem
    from reservoir.core.wording import counted, listed_briefly
    from reservoir.dialects.learning.lease_table import learn_leases
    from reservoir.files.lease_list import read_leases
    from reservoir.files.texts import read_text

    draft = learn_leases(read_text(sample).replace("\r\n", "\n"), read_leases(leases).leases)
    if not draft.right:
        message = f"no lease of {leases} was found in it: are they of the same time?"
        raise InputError([Problem(Place(sample), message)])
    _put(draft.text, out, force)
    words = "; ".join(" ".join(line.split()) for line in draft.layout.header)
    talk(f"{sample}: laid out with {words}" if words else f"{sample}: laid out line by line")
    for problem in draft.problems:
        complain(str(problem))
    talk(f"{sample}: {counted(draft.right, 'value')} read; {counted(draft.guessed, 'row')} guessed")
    if draft.missing:
        complain(f"{sample}: not read: {listed_briefly(draft.missing, 5)}")
    if draft.missing or draft.problems:
        raise click.exceptions.Exit(1)
    talk("Next: put it at the end of the dialect's sheet, then try it: reservoir dialect try "
         f"SHEET --leases {sample}")  # fmt: skip


def _show_plan(sample: str | None, out: str | None, force: bool) -> None:
    from reservoir.dialects.learning.sample_plan import plan_for_sample
    from reservoir.files.plan_text import plan_text

    if sample is not None:
        raise click.UsageError("--plan-for-sample is for before there is a sample.")
    _put(plan_text(plan_for_sample()), out, force)
    talk("Enter this on the device, save its configuration, and give both to dialect learn.")


def _require_values(draft: Draft, sample: str, plan: str) -> None:
    """Require that something of the plan is in the sample.

    Raises:
        InputError: nothing is.
    """
    from reservoir.core.problems import InputError, Place, Problem

    if draft.agreement is not None and not draft.agreement.right:
        message = f"nothing that {plan} says was found in it: was that plan entered on this device?"
        raise InputError([Problem(Place(sample), message)])


def _put(text: str, out: str | None, force: bool) -> None:
    """Show a text, or put it into a file that nobody has edited since it was written."""
    from reservoir.files.deliveries import Delivery, deliver

    if out in (None, "-"):
        save_or_show(text, None)
    else:
        path = Path(str(out))
        deliver(path.parent, [Delivery(path.name, text)], force)


def _plan(file: str) -> Plan:
    import reservoir

    return reservoir.load(file).plan


def _device(plan: Plan, name: str | None) -> str:
    """The device that was configured.

    Raises:
        UsageError: there is none of that name, or it isn't clear which it is.
    """
    from reservoir.core.wording import hint, listed

    serving = {s.device: None for network in plan.networks.values() for s in network.servers}
    if name is not None:
        if name not in plan.devices:
            raise click.UsageError(f"There is no device {name!r}{hint(name, plan.devices)}.")
        return name
    known: list[str] = [device for device in serving if device in plan.devices]
    if len(known) != 1:
        found = listed(known) if known else "none"
        raise click.UsageError(f"Name the device with --device; these serve networks: {found}.")
    return known[0]


def _name(name: str | None, out: str | None, sample: str) -> str:
    """What the dialect is called: as its file, in the letters that are allowed."""
    if name is not None:
        if not re.fullmatch("[a-z][a-z0-9-]*", name):
            raise click.UsageError(
                "A dialect's name is made of lower-case letters, digits and - (--name)."
            )
        return name
    stem = Path(out if out not in (None, "-") else sample).name.partition(".")[0].lower()
    return re.sub("[^a-z0-9]+", "-", stem).strip("-0123456789") or "draft"


def _known_traits(traits: dict[str, str]) -> dict[str, str]:
    from reservoir.core.values.addresses import MalformedValueError
    from reservoir.core.values.durations import parse_duration
    from reservoir.core.wording import hint
    from reservoir.dialects.sheet.traits import TRAITS

    for name, value in traits.items():
        if name not in TRAITS:
            raise click.UsageError(f"There is no trait {name!r}{hint(name, TRAITS)}.")
        values = TRAITS[name].values
        if values and value not in values:
            near = hint(value, values) or f"; it is one of {', '.join(values)}"
            raise click.UsageError(f"{name} can't be {value!r}{near}.")
        if not values:
            try:
                parse_duration(value)
            except MalformedValueError as error:
                raise click.UsageError(f"{error} (--trait {name}).") from None
    return traits


def _require_layout(wishes: Wishes) -> None:
    """Require that the layout words that are given can be.

    Raises:
        UsageError: one can't.
    """
    from reservoir.dialects.learning.layouts import LayoutGuess

    told = {word: values for word, values in wishes.layout.items() if values != "none"}
    for problem in LayoutGuess(told).problems:
        raise click.UsageError(f"{problem} (--layout).")


def _ask_what_is_in_doubt(draft: Draft, wishes: Wishes) -> Wishes:
    """Show the layout, and ask what lines say."""
    from reservoir.reports.theme import styled

    click.echo(styled("The sample seems to be laid out so:", "name"), err=True)
    for line in draft.layout.header:
        click.echo(f"  {line}", err=True)
    click.echo("  (another: --layout WORD=VALUES)", err=True)
    answers = dict(wishes.answers)
    for question in draft.questions:
        click.echo(styled(question.asks, "name"), err=True)
        answers[question.line] = _answer(question)
    return replace(wishes, answers=answers)


def _ask_what_no_text_shows(draft: Draft, wishes: Wishes) -> Wishes:
    """Ask how the device behaves."""
    from reservoir.dialects.sheet.traits import TRAITS
    from reservoir.reports.theme import styled

    traits = dict(wishes.traits)
    for name, taken in draft.not_shown.items():
        trait = TRAITS[name]
        click.echo(styled(trait.sentence, "name"), err=True)
        chosen = click.Choice([*trait.values]) if trait.values else None
        traits[name] = click.prompt(f"  {name}", type=chosen, default=taken, err=True)
    return replace(wishes, traits=_known_traits(traits))


def _answer(question: Question) -> str:
    """What somebody answers: yes or no, where that is enough, else one of the words."""
    from reservoir.dialects.learning.questions import NOTHING

    first = question.choices[0]
    if not question.yes:
        choice = click.Choice(question.choices)
        return str(click.prompt("  is", type=choice, default=first, err=True))
    is_so = click.confirm("  so", default=first == question.yes, err=True)
    return question.yes if is_so else NOTHING


def _say(draft: Draft, sample: str) -> None:
    """What the draft makes of the sample, and what is still to be done."""
    from reservoir.core.problems import Place
    from reservoir.core.wording import counted

    words = "; ".join(" ".join(line.split()) for line in draft.layout.header)
    talk(f"{sample}: laid out with {words}" if words else f"{sample}: laid out line by line")
    for problem in draft.problems:
        complain(str(problem))
    for question in draft.questions:
        talk(f"{question.asks} {question.taken}")
    agreement = draft.agreement
    if agreement is None:
        talk("The draft can't be tried before this is put right.")
        return
    if draft.problems:
        talk(f"{counted(len(draft.problems), 'row')} can't be used yet: see the draft's remarks.")
    for line, what in agreement.otherwise:
        complain(f"{Place(sample, line)}: {what}")
    if agreement.missing:
        talk(f"{sample}: of the plan, not read from it: {'; '.join(agreement.missing)}")
    doubts = f"{counted(draft.guessed, 'row')} guessed"
    if draft.without_row:
        doubts += f", {counted(draft.without_row, 'remark')} on lines without a row"
    talk(f"{sample}: {counted(agreement.right, 'value')} of the plan read; {doubts}")


def _is_wrong(draft: Draft, file: str, sample: str) -> bool:
    """Whether the draft does something wrong, which is told, as ``dialect try`` tells it."""
    from reservoir.dialects.sheet.loader import load_sheet
    from reservoir.dialects.trial import faults

    sheet = load_sheet(draft.text, file)
    wrong = faults(sheet)
    for text in wrong:
        complain(f"{file}: the sample plan reads back differently: {text}")
    wrong += try_sample(sheet, sample)
    is_otherwise = draft.agreement is not None and draft.agreement.otherwise
    return bool(wrong or is_otherwise or draft.problems)
