"""``reservoir write --into``: what a plan makes of present configuration, shown or done."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from reservoir.cli.output import complain, show, talk, width

if TYPE_CHECKING:
    from reservoir import WrittenInto
    from reservoir.core.problems import Place
    from reservoir.dialects.writing import DeviceConfiguration


CONTEXT = 3
"""Unchanged lines that are shown around each change."""


def require_placed(written: Sequence[WrittenInto]) -> None:
    """Stop where something that a pool needs is missing."""
    missing = False
    for one in written:
        for what in one.configuration.placed.missing if one.configuration.placed else ():
            missing = True
            complain(f"{one.present.file}: {what}; give both the same name")
    if missing:
        talk("\nNothing was written: the same interface may have two names.")
        raise click.exceptions.Exit(1)


def require_no_new_errors(written: Sequence[WrittenInto]) -> None:
    """Stop where a device's configuration, checked by itself, would have errors that it hasn't."""
    found = False
    for one in written:
        subject, errors = one.new_errors()
        for finding in errors:
            found = True
            line = subject.place(finding.at).line
            where = f", line {line}" if line else ""
            said = f"{finding.rule}: {finding.message}"
            complain(f"{one.present.file} as planned{where}: {said}")
    if found:
        talk("\nNothing was written: the configuration would have new errors.")
        raise click.exceptions.Exit(1)


def put_into(written: Sequence[WrittenInto], out: str | None, *, has_backup: bool) -> None:
    """Change the files, each with a copy of what it was; or those of their names elsewhere."""
    from reservoir.files.changing import change_files
    from reservoir.files.deliveries import Delivery, deliver

    if out is not None:
        deliveries = [
            Delivery(path.name, text, Path(one.present.file).name if one.present.is_several else "")
            for one in written
            for path, text in one.files.items()
        ]
        deliver(Path(out), deliveries)
    else:
        changed = {path: text for one in written for path, text in one.changed.items()}
        originals = {path: text for one in written for path, text in one.present.originals.items()}
        was = {path: text for path, text in originals.items() if path in changed}
        backups = {copy: text for one in written for copy, text in one.backups.items()}
        if not has_backup:
            backups.clear()
        for copy in backups:
            copy.parent.mkdir(exist_ok=True)
        change_files({**backups, **changed}, was)
        for path in backups:
            talk(f"{path}: as it was before")
    for one in written:
        file = one.present.file
        _tell(one, file if out is None else str(Path(out) / Path(file).name))
    _tell_what_is_proved(written, "Each file")


def show_changes(written: Sequence[WrittenInto]) -> None:
    """Show what would be changed in the files, as a difference, and what clients notice of it."""
    from reservoir.cli.output import show_difference
    from reservoir.reports.difference import unified_difference

    for one in written:
        for path, text in one.files.items():
            before = one.present.originals.get(path, "").splitlines()
            names = str(path), "as planned"
            show_difference(unified_difference(before, text.splitlines(), names, CONTEXT))
        _show_effect(one)
        _tell(one, one.present.file)
    _tell_what_is_proved(written, "The result")
    is_same = not any(one.is_changed for one in written)
    talk("Nothing is to be changed." if is_same else "No file was changed; --in-place does it.")


def _show_effect(one: WrittenInto) -> None:
    """What the change means for the device's clients."""
    import reservoir
    from reservoir.reports.comparison import lines

    sides = [reservoir.combine([read]) for read in (one.present.read, one.read_again())]
    comparison = reservoir.compare(*sides)
    if not comparison.is_same:
        show(["", *lines(comparison, None, (), width())])


def _tell(one: WrittenInto, where: str) -> None:
    """Say how much is changed in a device's files, and what stays there."""
    configuration = one.configuration
    change = _change(one.present.originals, one.files)
    talk(f"{configuration.device}  {configuration.dialect}  {where}: {change}")
    for place, what in sorted(_said(one)):
        talk(f"  {place}: {what}")


def _tell_what_is_proved(written: Sequence[WrittenInto], what: str) -> None:
    from reservoir.core.wording import counted  # late: --help needs none of it

    tell_what_matches([one.configuration for one in written], what)
    lines = sum(unread.lines for one in written for unread in one.configuration.not_understood)
    if lines:
        stays = "stays" if lines == 1 else "stay"
        talk(f"{counted(lines, 'line')} not understood {stays} and could not be compared.")


def _change(old: Mapping[Path, str], new: Mapping[Path, str]) -> str:
    """How many lines were added and removed."""
    from reservoir.core.wording import counted  # late: --help needs none of it

    before, after = (
        Counter(line for text in texts.values() for line in text.split("\n"))
        for texts in (old, new)
    )
    more, less = (after - before).total(), (before - after).total()
    stay = before.total() - less - len(new)  # nothing follows the last line end
    return f"{counted(more, 'line')} added, {less:,} removed, {stay:,} unchanged"


def _said(one: WrittenInto) -> Iterator[tuple[Place, str]]:
    """What people should know about the files as they were, and what was added to them."""
    from reservoir.core.problems import Place

    placed, read = one.configuration.placed, one.present.read
    assert placed is not None
    for label, text in placed.added:
        yield Place(read.file), f"{label} is added, since a network needs it: {text}"
    for line, label in placed.removed:
        yield read.place(line, 1), f"{label} is removed, since it is not in the plan"
    why = "in the plan this device doesn't serve it"
    if one.is_of_some:
        why = "it is of none of the networks that are written"
    for line, label in placed.others:
        yield read.place(line, 1), f"{label} stays: {why}"
    for line, name, old, new in placed.readdressed:
        yield read.place(line, 1), f"{name} gets {new} instead of {old}"
    for line, found, planned in placed.left:
        yield read.place(line, 1), f"{found!r} stays, but the plan has {planned!r}"
    for unread in one.configuration.not_understood:
        yield read.place(unread.line, unread.column), f"stays: {unread.message}"


def tell_what_matches(written: Sequence[DeviceConfiguration], what: str) -> None:
    """Say that what was written does as planned, less what its devices can't do."""
    from reservoir.core.wording import counted  # late: --help needs none of it

    undone = sum(len(configuration.undone) for configuration in written)
    matches = f"{what} was read back and matches the plan: pools, bindings and options"
    without = f", but for {counted(undone, 'thing')} that a device can't do (see check)"
    talk(f"{matches}{without if undone else ''}.")
