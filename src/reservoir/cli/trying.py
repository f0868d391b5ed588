"""Tries a sheet on a user's file, for the commands that make a sheet or judge one."""

from __future__ import annotations

from typing import TYPE_CHECKING

from reservoir.cli.output import complain, show, talk

if TYPE_CHECKING:
    from reservoir.dialects.sheet.model import Sheet


def try_sample(sheet: Sheet, sample: str) -> list[str]:
    """Read the user's file and write it back; what was not understood."""
    from reservoir.core.problems import Place
    from reservoir.core.wording import counted
    from reservoir.dialects.trial import try_on
    from reservoir.files.texts import read_text
    from reservoir.reports.difference import unified_difference

    text = read_text(sample)
    tried = try_on(text, sheet)
    problems = [f"{Place(sample, line, column)}: {what}" for line, column, what in tried.problems]
    for problem in problems:
        complain(str(problem))
    if tried.as_planned != text:
        both = (text.split("\n"), tried.as_planned.split("\n"))
        show(unified_difference(*both, (sample, "as planned"), context=0))
        problems.append(f"{sample}: a plan of what is there, written into it, changes it")
        complain(problems[-1])
    elif not problems:
        talk(f"{sample}: a plan of what is there, written into it, changes nothing.")
    reading = tried.reading
    talk(
        f"{sample}: {counted(tried.networks, 'network')} from {counted(reading.lines, 'line')}, "
        f"{reading.left_alone:,} left alone, {len(problems):,} to put right"
    )
    return problems


def try_parts(sheet: Sheet) -> list[str]:
    """Write two leases with each part leases of a sheet and read them back; what is wrong."""
    from reservoir.dialects.lease_trial import try_leases

    wrong: list[str] = []
    for part in sheet.leases:
        tried = try_leases(part)
        show(["", *tried.text.splitlines()])
        talk()
        for what in tried.left_out:
            talk(f"left out: {what}")
        if tried.uncovered:
            talk(f"not covered by any row: lease {', '.join(tried.uncovered)}")
        for fault in tried.faults:
            complain(f"{sheet.file}: part leases: {fault}")
        if not tried.faults:
            talk(f"{sheet.file}: part leases: the sample reads back correctly.")
        wrong += tried.faults
    return wrong


def try_lease_table(sheet: Sheet, file: str) -> list[str]:
    """Read a table of leases of the user's; what was not understood."""
    import time

    from reservoir.core.wording import counted
    from reservoir.dialects.lease_tables import read_with
    from reservoir.files.texts import read_text

    cells = read_with(sheet, read_text(file).replace("\r\n", "\n"), file, time.time())
    for note in cells.notes:
        talk(f"{file}: {note}")
    columns = ", ".join(cells.columns)
    talk(f"{file}: {counted(len(cells.lines), 'lease')} with {columns}")
    return []
