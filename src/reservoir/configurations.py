"""Devices' configuration in files and folders: which texts there are, and whose."""

from __future__ import annotations

from collections.abc import Iterable
from os import PathLike
from pathlib import Path
from typing import TypeVar

from reservoir.core.problems import InputError, Place, Problem
from reservoir.dialects.notations.files import FILE_MARK, in_one_text
from reservoir.dialects.reading import read_device
from reservoir.dialects.sheet.library import beside
from reservoir.files.texts import read_files, read_text

NO_DEVICES = ("dialects",)
"""What a folder of devices' configuration may hold besides: sheets."""


def each_device(file: str, dialect: str | None) -> list[str]:
    """The files and folders that a folder of several devices' configuration holds; else itself."""
    if not Path(file).is_dir():
        return [file]
    there = (path for path in Path(file).iterdir() if path.is_file() or path.is_dir())
    names = without_backups(path for path in there if path.name not in NO_DEVICES)
    within = sorted(path for path in names if not path.name.startswith("."))
    library = beside(str(Path(file) / "device"))
    for path in within:
        if not path.is_file():
            continue
        try:
            sheet = read_device(read_text(str(path)), str(path), library, dialect).sheet
        except InputError:
            continue  # one that can't be read is named when all are
        if sheet.notation.files:
            return [file]
        break
    else:
        if not any(path.is_dir() for path in within):
            return [file]
    return [str(path) for path in within]


Given = TypeVar("Given", bound="str | PathLike[str]")

BACKUP = ".before"
"""What the backup of a file ends with, which `write --in-place` leaves beside it."""


def backup_of(file: str | PathLike[str]) -> Path:
    """The path of a file's backup, or a folder's."""
    return Path(f"{str(file).rstrip('/')}{BACKUP}")


def without_backups(files: Iterable[Given]) -> list[Given]:
    """The files without those that are a backup of another one among them."""
    every = list(files)
    backups = {backup_of(path) for path in every}
    return [path for path in every if Path(path) not in backups]


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
