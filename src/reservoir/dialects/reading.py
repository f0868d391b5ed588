"""Reads a device's configuration: recognises its dialect, parses it, lifts it into a plan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import PurePath

from reservoir.core.problems import InputError, Place, Problem
from reservoir.dialects.behaviour.effect import lift_effect
from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.behaviour.lifted import Lifted
from reservoir.dialects.notations.files import FILE_MARK, FileMarks, in_one_text
from reservoir.dialects.parse.not_understood import NotUnderstood
from reservoir.dialects.parse.reader import Reading, read_configuration
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.model import Sheet

SAMPLES = (200, 2_000)
"""Lines of a file by which its dialect is recognised: more where few leave a doubt."""

CLEAR = 0.3
"""How much larger a share than the next best's leaves no doubt."""

LEAST_SHARE = 0.3
"""Share of the sample's lines that a dialect must understand to be taken for the file's."""


@dataclass(frozen=True)
class ConfigurationRead:
    """A configuration file, read."""

    file: str
    """The file or the folder that was read."""
    text: str
    sheet: Sheet
    share: float
    """The share of its lines that the dialect understands, 0 to 1."""
    reading: Reading
    runner_up: tuple[str, float] | None = None
    """Where the dialect was recognised: the next best, and the share that it would understand."""
    broken: tuple[Problem, ...] = ()
    """Sheets that couldn't be asked for that, each by the first of its mistakes."""

    @property
    def dialect(self) -> str:
        """The name of its dialect."""
        return self.sheet.name

    @cached_property
    def lifted(self) -> Lifted:
        """What it states, as a plan."""
        return lift(self.reading.device, self.sheet, PurePath(self.file).stem)

    @cached_property
    def effect(self) -> Lifted:
        """What the device does, as a plan: without what it refuses or ignores of what it states."""
        stem = PurePath(self.file).stem
        return lift_effect(self.reading.device, self.sheet, stem, self.lifted)

    @cached_property
    def not_understood(self) -> tuple[NotUnderstood, ...]:
        """What is about DHCP and not understood, or has no place in a plan; by line."""
        return self.lifted.not_understood(self.reading)

    @property
    def lines_not_understood(self) -> int:
        """Lines about DHCP that were not understood, or have no place in a plan."""
        return sum(each.lines for each in self.not_understood)

    @cached_property
    def _marks(self) -> FileMarks:
        return FileMarks(self.text)

    def place(self, line: int, column: int) -> Place:
        """Where a line of the text stands; in which file, if it is several."""
        name, number = self._marks.file_and_line(line)
        if not name or name == PurePath(self.file).name:
            return Place(self.file, number, column)
        return Place(f"{self.file}/{name}", number, column)


def read_device(
    text: str, file: str, library: Library, dialect: str | None = None
) -> ConfigurationRead:
    """Read one device's configuration.

    Raises:
        InputError: the dialect is unknown, or none is recognised.
    """
    runner_up: tuple[str, float] | None = None
    broken: list[Problem] = []
    if dialect:
        sheet = library.sheet(dialect)
    else:
        sheets, broken = library.usable
        sheet, runner_up = _recognised(text, file, sheets, broken)
    text = _as_files(text, file, sheet)
    reading = read_configuration(text, sheet)
    return ConfigurationRead(file, text, sheet, _share(reading), reading, runner_up, tuple(broken))


def _as_files(text: str, file: str, sheet: Sheet) -> str:
    """A single file of a dialect with several, as one that says which it is."""
    if sheet.notation.files and not text.startswith(FILE_MARK):
        return in_one_text([(PurePath(file).name, text)])
    return text


def _share(reading: Reading) -> float:
    """The share of what the dialect understands in what it could tell apart."""
    unknown = reading.foreign + reading.lines_not_understood
    known = reading.understood
    return known / (known + unknown) if known else 0.0


def _recognised(
    text: str, file: str, sheets: list[Sheet], broken: list[Problem]
) -> tuple[Sheet, tuple[str, float] | None]:
    """The dialect that understands most of the file; the next best, and its share.

    By its first lines, if they tell; what is about DHCP may come late in a file.
    """
    lines, tried = text.split("\n"), list[tuple[float, Sheet]]()
    for begin in range(0, len(lines), SAMPLES[-1]):
        (share, best), *others = _ranked(lines[begin : begin + SAMPLES[-1]], file, sheets)
        if share >= LEAST_SHARE:
            return best, (others[0][1].name, others[0][0]) if others else None
        tried.append((share, best))
    share, best = max(tried, key=lambda found: found[0])
    message = "neither a plan nor configuration in a known dialect"
    if share >= 0.01:
        message += (
            f"; the closest is {best.name}, which understands {share:.0%} of it: "
            f"use --dialect {best.name} if that is right"
        )
    raise InputError([*broken, Problem(Place(file), message)])


def _ranked(lines: Sequence[str], file: str, sheets: list[Sheet]) -> list[tuple[float, Sheet]]:
    """The sheets with the share that each understands of the first lines, the largest first.

    Where a few lines leave it clear, no more are read; of equals, the names' order decides.
    """
    ranked: list[tuple[float, Sheet]] = []
    for count in SAMPLES:
        sample = "\n".join(lines[:count])
        shares = [
            (_share(read_configuration(_as_files(sample, file, sheet), sheet)), sheet)
            for sheet in sheets
        ]
        ranked = sorted(shares, key=lambda found: -found[0])
        best, following = (ranked[0][0], ranked[1][0] if len(ranked) > 1 else 0.0)
        if (best >= LEAST_SHARE and best - following >= CLEAR) or len(lines) <= count:
            break
    return ranked
