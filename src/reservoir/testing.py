"""For authors of sheets: test a sheet the way Reservoir tests every dialect."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

__all__ = ["check_dialect"]


def check_dialect(sheet: str | Path, samples: Sequence[str | Path] = ()) -> None:
    """Fail if a sheet doesn't read what it writes, or doesn't understand a device's configuration.

    Args:
        sheet: The sheet's path.
        samples: Paths of configuration of such devices. Every line has to be understood, or to be
            one that the sheet leaves alone; a plan of what is there, written into it, changes
            nothing.

    Raises:
        InputError: the sheet has mistakes, or a file can't be read.
        AssertionError: with every fault, a line for each.
    """
    from reservoir.dialects.sheet.loader import load_sheet  # late: costs NumPy
    from reservoir.dialects.trial import faults, try_on
    from reservoir.files.texts import read_text
    from reservoir.reports.difference import unified_difference

    loaded = load_sheet(read_text(str(sheet)), str(sheet))
    found = [f"{sheet}: {fault}" for fault in faults(loaded)]
    for sample in samples:
        text = read_text(str(sample))
        tried = try_on(text, loaded)
        found += [f"{sample}:{line}:{column}: {what}" for line, column, what in tried.problems]
        both = (text.split("\n"), tried.as_planned.split("\n"))
        found += unified_difference(*both, (str(sample), "as planned"), context=0)
    if found:
        raise AssertionError("\n".join(found))
