"""For authors of sheets: test a sheet the way Reservoir tests every dialect."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

__all__ = ["check_dialect"]


def check_dialect(sheet: str | Path, samples: Sequence[str | Path] = ()) -> None:
    """Fail if a sheet doesn't read what it writes, or doesn't understand a device's configuration.

    Args:
        sheet: The sheet's path.
        samples: Paths of configuration of such devices. Every line about DHCP has to be
            understood; written and read back, it must state the same.

    Raises:
        InputError: the sheet has mistakes, or a file can't be read.
        AssertionError: with every fault, a line for each.
    """
    from reservoir.dialects.parse.reader import read_configuration  # late: costs NumPy
    from reservoir.dialects.render.writer import write_configuration
    from reservoir.dialects.sheet.loader import load_sheet
    from reservoir.dialects.trial import faults
    from reservoir.files.texts import read_text

    loaded = load_sheet(read_text(str(sheet)), str(sheet))
    found = [f"{sheet}: {fault}" for fault in faults(loaded)]
    for sample in samples:
        reading = read_configuration(read_text(str(sample)), loaded)
        found += [f"{sample}:{u.line}:{u.column}: {u.message}" for u in reading.not_understood]
        written = write_configuration(reading.device, loaded)
        if read_configuration(written.text, loaded).device != written.expressed:
            found.append(f"{sample}: it reads back differently after it was written")
    if found:
        raise AssertionError("\n".join(found))
