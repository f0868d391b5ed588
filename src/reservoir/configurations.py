"""Devices' configuration in files and folders: which texts there are, and whose."""

from __future__ import annotations

from os import PathLike
from pathlib import Path

from reservoir.core.problems import InputError, Place, Problem
from reservoir.dialects.notations.files import FILE_MARK, in_one_text
from reservoir.dialects.reading import read_device
from reservoir.dialects.sheet.library import beside
from reservoir.files.texts import read_files, read_text


def each_device(file: str, dialect: str | None) -> list[str]:
    """The files and folders that a folder of several devices' configuration holds; else itself."""
    if not Path(file).is_dir():
        return [file]
    within = sorted(path for path in Path(file).iterdir() if not path.name.startswith("."))
    library = beside(str(Path(file) / "device"))
    for path in within:
        if path.is_dir():
            continue
        try:
            sheet = read_device(read_text(str(path)), str(path), library, dialect).sheet
        except InputError:
            continue  # one that can't be read is named when all are
        if sheet.notation.nesting.files:
            return [file]
        break
    else:
        if not any(path.is_dir() for path in within):
            return [file]
    return [str(path) for path in within]


def configuration_text(file: str | PathLike[str]) -> str:
    """A device's configuration as one text.

    Args:
        file: Path of the file or of a folder of files, or ``-`` for standard input.

    Raises:
        InputError: it can't be read.
    """
    name = str(file)
    if not Path(name).is_dir():
        return read_text(name)
    files = read_files(name)
    problems = [
        Problem(
            Place(f"{name}/{inside}", number), f"{FILE_MARK.strip()!r} begins a file of its own"
        )
        for inside, text in files
        for number, line in enumerate(text.split("\n"), start=1)
        if line.startswith(FILE_MARK)
    ]
    if problems:
        raise InputError(problems)
    return in_one_text(files)
