"""``reservoir new``: networks for a plan, by question and answer or from a table."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from reservoir.cli.changes import (
    changed_plan,
    make_changes,
    require_no_new_errors,
    show_changes,
)
from reservoir.cli.completion import device_names, dialect_names
from reservoir.cli.inputs import Scalar, columns_options
from reservoir.cli.output import complain, finish_what_was_cut_off, save_or_show, talk, talkative

if TYPE_CHECKING:
    from reservoir import OpenedPlan
    from reservoir.core.drafting.answers import Answers, Question
    from reservoir.core.drafting.drafting import Drafting
    from reservoir.core.values.addresses import Prefix
    from reservoir.files.network_table import NetworksRead

OPTIONS = {
    "network": "Its name.",
    "device": "The device that its interface is on.",
    "dialect": "That device's dialect.",
    "vlan": "Its VLAN tag, or none.",
    "interface": "The interface, such as deck.30.",
    "subnet": "Its subnet, with prefix length or mask.",
    "gateway": "The gateway's address, or none.",
    "keep": "What is kept for static addresses: first 10.",
    "range": "What is assigned: 10.84.30.20-10.84.30.250.",
    "server": "The device that assigns, if it is another.",
    "dns": "The DNS servers, or none.",
    "domain": "The domain.",
    "lease": "The lease time.",
    "clients": "How many clients are expected.",
}
"""The options that answer a question, each with its help."""

COMPLETED = {"device": device_names, "server": device_names, "dialect": dialect_names}
"""What the shell completes for some of them."""

MOST_NAMED = 8
"""Devices that are named where one has to be chosen."""

Command = Callable[..., object]


class Answer(click.ParamType[Any]):
    """The answer to a question."""

    def __init__(self, question: str) -> None:
        """Take the question's name."""
        self.name = question

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """What the answer means; kept in a tuple of one, since it may be that there is none."""
        from reservoir.core.drafting.answers import BY_NAME
        from reservoir.core.values.addresses import MalformedValueError

        try:
            return value if isinstance(value, tuple) else (BY_NAME[self.name].read(value),)
        except MalformedValueError as error:
            self.fail(str(error), param, ctx)


class Tags(click.ParamType[tuple[int, int]]):
    """VLAN tags to choose from: ``100-199``."""

    name = "tags"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> tuple[int, int]:
        """The lowest and the highest."""
        if isinstance(value, tuple):
            return value
        low, _, high = value.partition("-")
        if not (low.isdigit() and high.isdigit() and 1 <= int(low) <= int(high) <= 4094):
            self.fail(f"{value!r} is no range of VLAN tags: write it like 100-199", param, ctx)
        return int(low), int(high)


def answer_options(command: Command) -> Command:
    """Give a command an option for each question."""
    for name, what in reversed(OPTIONS.items()):
        option = click.option(
            f"--{name}",
            type=Answer(name),
            metavar="VALUE",
            help=what,
            shell_complete=COMPLETED.get(name),
        )
        command = option(command)
    return command


@click.command("new", short_help="Start a plan, or add networks to one.")
@answer_options
@click.option("--into", metavar="PLAN", help="Add to this plan (default: a new one).")
@click.option("--in-place", is_flag=True, help="Change the plan; comments and layout are kept.")
@click.option(
    "--block",
    type=Scalar("subnet"),
    metavar="BLOCK",
    help="Choose free subnets from this block: 10.84.0.0/16.",
)
@click.option("--tags", type=Tags(), metavar="LOW-HIGH", help="Choose free VLAN tags from these.")
@click.option("--from", "table", metavar="TABLE.csv", help="Take the networks from a table.")
@columns_options("network_table", "the table", "subnet=Net,vlan=VLAN")
@click.option(
    "--empty",
    type=click.Choice(["suggest", "none"]),
    help="What an empty cell means: suggest something (default), or there is none.",
)
@click.option("--skip-unusable", is_flag=True, help="Leave out rows that can't be used.")
@click.option("--yes", is_flag=True, help="Ask nothing; take what is suggested.")
@click.option("-o", "--out", metavar="FILE", help="Write the new plan to a file.")
@talkative
def command(
    into: str | None,
    in_place: bool,
    block: Prefix | None,
    tags: tuple[int, int] | None,
    table: str | None,
    columns: dict[str, str] | None,
    empty: str | None,
    skip_unusable: bool,
    yes: bool,
    out: str | None,
    **given: Any,
) -> None:
    """Draft networks: asks what isn't given, and suggests each answer with its reason.

    On a terminal it asks in the order in which engineers think: device and interface, subnet,
    gateway, what is kept back, range, DNS, domain, lease, expected clients. Elsewhere, and with
    --yes, suggestions are taken. A network that is added gets the interface, zone and relay that
    it needs.

    A table is a row a network, with the questions' names as columns, and besides: mask; first and
    last, a range's ends; excluded, what is kept back. Subnets may be from first to last address,
    and a lease's unit in its header: lease (days). What the table doesn't say is suggested;
    a remark above the network names it, where a plan isn't in braces.

    \b
    Examples:
      reservoir new -o plan.yaml
      reservoir new --into ferry-line.yaml --network lounge --clients 120
      reservoir new --from networks.csv --columns subnet=Net,vlan=VLAN -o plan.yaml
      reservoir new --device pier-router --dialect larkspur --subnet 10.84.30.0/24
        --dns 10.84.0.53 --yes

    Exit status: 0 fine, 1 the plan has errors, 2 unusable input.
    """
    answers: Answers = {name: value[0] for name, value in given.items() if value is not None}
    _require_consistent(into, in_place, table, {"columns": columns, "empty": empty}, out)
    loaded = _loaded(into, in_place)
    import reservoir  # late: --help needs none of it
    from reservoir.files.network_table import read_networks

    drafting = reservoir.drafting(loaded, block=block, tags=tags)
    if table is not None:
        read = read_networks(table, columns, empty_is_none=empty == "none")
        _draft_table(drafting, table, read, answers, skip_unusable)
    else:
        asks = sys.stdin.isatty() and not yes
        _draft_by_hand(drafting, answers, asks=asks, where=_where(into, in_place, out))
    if loaded is not None and into is not None:
        _add(drafting, loaded, into, in_place)
    else:
        _start(drafting, out)


def _require_consistent(
    into: str | None,
    in_place: bool,
    table: str | None,
    of_table: Mapping[str, object],
    out: str | None,
) -> None:
    if in_place and into is None:
        raise click.UsageError("--in-place goes with --into.")
    if out is not None and into is not None:
        raise click.UsageError("--out is for a new plan; --into with --in-place changes one.")
    for name, value in of_table.items():
        if value is not None and table is None:
            raise click.UsageError(f"--{name} goes with --from.")
    if out not in (None, "-") and Path(str(out)).exists():
        raise click.UsageError(f"{out} exists; add to it with --into {out}, or name another file.")


def _loaded(into: str | None, in_place: bool) -> OpenedPlan | None:
    import reservoir
    from reservoir.files.texts import STANDARD_INPUT

    if into is None:
        return None
    if into == STANDARD_INPUT:
        raise click.UsageError("new changes files, so the plan can't be standard input.")
    if in_place:
        finish_what_was_cut_off(Path(into).parent)
    return reservoir.load(into)


def _where(into: str | None, in_place: bool, out: str | None) -> list[str]:
    """The options that say where the networks go."""
    if into is not None:
        return ["--into", into, *(["--in-place"] if in_place else [])]
    return ["--out", out] if out is not None else []


def _draft_by_hand(
    drafting: Drafting, answers: Answers, *, asks: bool, where: Sequence[str]
) -> None:
    """Draft one network, or several one after the other where somebody answers.

    Whoever interrupts that is told the commands that have the same answers.
    """
    done: list[Answers] = []
    while True:
        begun = dict(answers)
        try:
            complete = _answered(drafting, begun, asks=asks)
        except (click.Abort, KeyboardInterrupt):  # the latter between two questions
            if done or len(begun) > len(answers):
                _say_how_to_go_on(done, begun, where)
            raise
        done.append(complete)
        drafting.add(complete)
        answers = {key: complete[key] for key in ("device", "dialect", "dns", "domain", "lease")}
        if not asks or not click.confirm("\nAnother network?", default=False, err=True):
            return


def _say_how_to_go_on(done: Sequence[Answers], begun: Answers, where: Sequence[str]) -> None:
    """The commands that draft what is done, and go on with what was begun."""
    from reservoir.core.drafting.answers import BY_NAME

    plan = where[1] if len(where) > 1 else "plan.yaml"
    first, later = where or ["--out", plan], ["--into", plan, "--in-place"]
    talk("\nThese commands go on with your answers.")
    for number, answers in enumerate((*done, begun)):
        said = [
            word
            for name, value in answers.items()
            for word in (f"--{name}", BY_NAME[name].write(value))
        ]
        is_done = ["--yes"] if number < len(done) else []
        words = ["reservoir", "new", *(later if number else first), *said, *is_done]
        talk(f"  {shlex.join(words)}")


def _answered(drafting: Drafting, answers: Answers, *, asks: bool) -> Answers:
    """All answers: those that are given, and those of somebody or as suggested.

    Raises:
        UsageError: a question has no answer and no suggestion, or an answer can't be.
    """
    from reservoir.core.drafting.answers import QUESTIONS
    from reservoir.core.drafting.drafting import NoRoomError
    from reservoir.core.drafting.refusing import why_not

    missing: list[str] = []
    # Where nobody is asked, a network without a name is called by its tag or its subnet.
    last = [] if asks or "network" in answers else [QUESTIONS[0]]
    for question in (*(q for q in QUESTIONS if q not in last), *last):
        if question.name in answers:
            continue
        try:
            suggested = drafting.suggest(question.name, answers)
        except NoRoomError as error:
            raise click.UsageError(f"{error}; choose one yourself: --{question.name}.") from None
        if asks:
            answers[question.name] = _ask(question, suggested, drafting, answers)
        elif suggested is not None:
            answers[question.name] = suggested.value
        elif question.name == "dialect":
            answers["dialect"] = None
        elif question.leads:
            raise click.UsageError(_several(drafting.devices))
        else:
            missing.append(f"--{question.name}")
    if missing:
        raise click.UsageError(
            f"Give {' and '.join(missing)}: there is nothing to suggest it from. "
            "Where there is none, say so: none."
        )
    problem = why_not(drafting, answers)
    if problem is not None:
        raise click.UsageError(f"{problem[1]} (--{problem[0]}).")
    return answers


def _several(devices: Sequence[str]) -> str:
    """That a device has to be chosen, and some of those that there are."""
    from reservoir.core.wording import counted, listed

    more = len(devices) - MOST_NAMED
    named = [*devices[:MOST_NAMED], *([f"{more:,} more"] if more > 0 else [])]
    return f"Choose one of {counted(len(devices), 'device')} with --device: {listed(named)}."


def _ask(question: Question, suggested: Any, drafting: Drafting, answers: Answers) -> Any:
    """Ask until there is an answer that can be used."""
    from reservoir.core.drafting.refusing import why_not
    from reservoir.core.plan.scalars import NONE
    from reservoir.core.values.addresses import MalformedValueError
    from reservoir.reports.theme import styled

    def read(text: str) -> Any:
        try:
            value = question.read(text)
        except MalformedValueError as error:
            raise click.UsageError(str(error)) from None
        problem = why_not(drafting, {**answers, question.name: value})
        if problem is not None:
            raise click.UsageError(problem[1])
        return value

    because = f"  ({suggested.because})" if suggested is not None else ""
    click.echo(f"{styled(question.asks, 'name')}{because}", err=True)
    if question.name == "dialect" and suggested is None:
        click.echo("  " + ", ".join((*drafting.dialects, "none")), err=True)
    default = None if suggested is None else question.write(suggested.value)
    hints = [f"like {question.example}"] if question.example and default is None else []
    hints += [f"{NONE} if there is none"] if question.may_be_none and default != NONE else []
    like = f" ({'; '.join(hints)})" if hints else ""
    return click.prompt(f"  {question.name}{like}", default=default, value_proc=read, err=True)


def _draft_table(
    drafting: Drafting,
    table: str,
    read: NetworksRead,
    given: Answers,
    skip_unusable: bool,
) -> None:
    """Draft the network of each row; options answer what the table doesn't."""
    from collections import Counter

    from reservoir.core.drafting.answers import QUESTIONS
    from reservoir.core.problems import InputError, Problem
    from reservoir.core.wording import counted, listed

    problems = list(read.problems)
    drafted = 0
    suggested = Counter[str]()
    for row in read.rows:
        answers = {**given, **row.answers}
        try:
            complete = _answered(drafting, dict(answers), asks=False)
            new = [q.name for q in QUESTIONS if _is_suggested(q, answers, complete)]
            drafting.add(complete, f"suggested: {', '.join(new)}" if new else "")
            suggested.update(new)
            drafted += 1
        except click.UsageError as error:
            problems.append(Problem(row.place, error.message.rstrip(".")))
    if read.ignored:
        talk(f"{table}: ignored {'column' if len(read.ignored) == 1 else 'columns'}: "
             f"{listed(map(repr, read.ignored))}")  # fmt: skip
    if suggested and (skip_unusable or not problems):
        each = (f"{name} ({count:,})" for name, count in suggested.items())
        talk(f"Suggested, since the table says nothing: {listed(each)}.")
    if problems and skip_unusable and drafted:
        for problem in sorted(problems):
            complain(str(problem))
        lines = {problem.place.line for problem in problems}
        talk(f"{counted(len(lines), 'row')} left out, {counted(drafted, 'network')} taken.")
    elif problems:
        if drafted:
            talk("Correct these rows, or leave them out with --skip-unusable:")
        raise InputError(problems)


def _is_suggested(question: Question, given: Answers, complete: Answers) -> bool:
    """Whether an answer that says something is neither the table's nor an option's.

    A dialect that nobody gave is the one that the plan has for the device.
    """
    from reservoir.core.drafting.answers import NONE

    name = question.name
    return name not in given and name != "dialect" and question.write(complete[name]) != NONE


def _add(drafting: Drafting, loaded: OpenedPlan, into: str, in_place: bool) -> None:
    """Show what a plan gets, and give it that with ``--in-place``."""
    from reservoir.core.wording import counted
    from reservoir.files.drafts import with_additions
    from reservoir.files.plan_edits import NotEditableError

    try:
        before, after = with_additions(loaded, drafting.additions)
    except NotEditableError as error:
        raise click.UsageError(f"{into} has no place for it: {error}.") from None
    changed = changed_plan(into, after)
    new = require_no_new_errors(loaded, changed)
    show_changes(before, after)
    for finding in new:
        talk(f"{finding.severity.word} {finding.rule}: {finding.message}")
    count = counted(drafting.count, "network")
    if in_place:
        make_changes(before, after)
        talk(f"{count} added.\nNext: reservoir check {into}")
    else:
        talk(f"{count} can be added; --in-place does it.")


def _start(drafting: Drafting, out: str | None) -> None:
    """Write a new plan, and say what the checks say of it."""
    import reservoir
    from reservoir.core.findings import Severity
    from reservoir.core.wording import counted
    from reservoir.files.drafts import new_plan

    text = new_plan(drafting.additions)
    plan = reservoir.loads(text, out if out not in (None, "-") else "plan.yaml")
    report = reservoir.check(plan)
    save_or_show(text, out)
    for finding in report.findings:
        place = plan.place(finding.at)
        talk(f"{place}: {finding.severity.word} {finding.rule}: {finding.message}")
    networks, found = counted(report.networks, "network"), counted(len(report), "finding")
    talk(f"{networks} checked: {found}.")
    if out not in (None, "-"):
        talk(f"Next: reservoir {'check' if len(report) else 'write'} {out}")
    if report.worst is Severity.ERROR:
        raise click.exceptions.Exit(1)
