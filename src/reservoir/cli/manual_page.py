"""The manual page, made of the commands' own help: ``python -m reservoir.cli.manual_page``."""

from __future__ import annotations

import re
import textwrap
from collections.abc import Iterable, Iterator

import click

from reservoir.cli.commands import COMMANDS, reservoir
from reservoir.version import __version__

STATUS = (
    ("0", "Fine."),
    ("1", "Findings at or above --fail-on, a client that failed, a pool that is too small, or a "
          "difference with --exit-code."),
    ("2", "The input or the call can't be used; nothing was written."),
    ("70", "A defect in Reservoir; please report it."),
    ("130", "Interrupted; files are as they were."),
)  # fmt: skip

LEDGER = "What `write` has put there, so that files which were edited since aren't overwritten."

FILES = (
    ("NAME.sheet", "A dialect of one's own, in a folder dialects beside the plan."),
    (".reservoir-written.json", LEDGER),
)


def page() -> str:
    """The page for section 1, in the roff of man(7)."""
    return "\n".join(_lines()) + "\n"


def _lines() -> Iterator[str]:
    group = click.Context(reservoir, info_name="reservoir", **reservoir.context_settings)
    yield f'.TH RESERVOIR 1 "" "reservoir {__version__}" "User Commands"'
    summary, *paragraphs = _paragraphs(reservoir.help or "")
    yield from (".SH NAME", rf"reservoir \- {_escaped(summary.rstrip('.'))}")
    yield from (".SH SYNOPSIS", r".B reservoir", r"[\fIOPTIONS\fR] \fICOMMAND\fR [\fIARGS\fR]...")
    yield ".SH DESCRIPTION"
    for paragraph in paragraphs:
        yield from (".PP", _escaped(paragraph))
    yield ".SH OPTIONS"
    yield from _options(reservoir, group)
    yield ".SH COMMANDS"
    for name in COMMANDS:
        command = reservoir.get_command(group, name)
        assert command is not None  # it is in the list
        yield from _command(command, click.Context(command, group, name))
    yield ".SH EXIT STATUS"
    yield from _terms(STATUS)
    yield ".SH FILES"
    yield from _terms(FILES)
    yield ".SH ENVIRONMENT"
    yield from _terms((("NO_COLOR", "If set, output has no colours unless --color always."),))
    yield ".SH SHELL COMPLETION"
    for shell, file in (("bash", "~/.bashrc"), ("zsh", "~/.zshrc")):
        yield from (".PP", f"{shell}, in {file}:")
        yield from _example(f'eval "$(_RESERVOIR_COMPLETE={shell}_source reservoir)"')
    yield from (".PP", "fish, in ~/.config/fish/completions/reservoir.fish:")
    yield from _example("_RESERVOIR_COMPLETE=fish_source reservoir | source")


def _command(command: click.Command, context: click.Context) -> Iterator[str]:
    usage = " ".join(command.collect_usage_pieces(context))
    yield rf".SS {_escaped(context.command_path.removeprefix('reservoir '))} {_escaped(usage)}"
    for number, paragraph in enumerate(_paragraphs(command.help or "")):
        if paragraph.startswith("Examples:"):
            yield from (".PP", "Examples:")
            yield from _example(*_example_lines(command.help or ""))
            continue
        if number:
            yield ".PP"
        yield _escaped(paragraph)
    yield from _options(command, context)
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            inner = command.get_command(context, name)
            assert inner is not None  # it is in the list
            yield from _command(inner, click.Context(inner, context, name))


def _options(command: click.Command, context: click.Context) -> Iterator[str]:
    records = [p.get_help_record(context) for p in command.get_params(context)]
    yield from _terms([record for record in records if record is not None])


def _terms(terms: Iterable[tuple[str, str]]) -> Iterator[str]:
    for term, text in terms:
        yield from (".TP", rf"\fB{_escaped(term)}\fR", _escaped(text))


def _example(*lines: str) -> Iterator[str]:
    yield from (".PP", ".nf", ".RS", *map(_escaped, lines), ".RE", ".fi")


def _paragraphs(text: str) -> list[str]:
    """Paragraphs in a line each."""
    parts = re.split(r"\n\s*\n", text.replace("\b\n", ""))
    return [" ".join(part.split()) for part in parts if part.strip()]


def _example_lines(text: str) -> list[str]:
    """The lines below ``Examples:``, however far in the interpreter leaves them."""
    after = text.partition("Examples:\n")[2]
    return textwrap.dedent(re.split(r"\n\s*\n", after)[0]).split("\n")


def _escaped(text: str) -> str:
    """A text that roff takes for nothing else: no escape, no request at the line's begin."""
    text = text.replace("\\", r"\e").replace("-", r"\-")
    return rf"\&{text}" if text.startswith((".", "'")) else text


if __name__ == "__main__":
    click.echo(page(), nl=False)
