"""Devices' configuration from Python: read it, combine it for checks, convert it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from os import PathLike

from reservoir.api.plans import File
from reservoir.configurations import configuration_text, each_device, without_backups
from reservoir.core.subject import Subject
from reservoir.dialects.converting import convert_read
from reservoir.dialects.reading import ConfigurationRead, read_device
from reservoir.dialects.running.subject import ReadSubject
from reservoir.dialects.sheet.library import beside
from reservoir.dialects.writing import DeviceConfiguration
from reservoir.files.plan_file import LoadedPlan
from reservoir.files.recognising import require_no_plan


def read(files: File | Iterable[File], dialect: str | None = None) -> list[ConfigurationRead]:
    """Read devices' configuration into the plan's terms.

    Args:
        files: A path or several; ``-`` is standard input. A folder is one device's configuration
            where its dialect has several files for a device, else each file in it is a device's.
            The backup ``FILE.before`` of one of them is passed over.
        dialect: The dialect of all of them; recognised for each if None.

    Raises:
        InputError: a file can't be read, is in no known dialect, or belongs to a plan.
    """
    several = without_backups([files] if isinstance(files, str | PathLike) else files)
    names = []
    for file in several:
        within = each_device(str(file), dialect)
        if dialect is None:
            for name in dict.fromkeys([str(file), *within]):
                require_no_plan(name)
        names += within
    return [read_device(configuration_text(name), name, beside(name), dialect) for name in names]


def reads(text: str, name: File, dialect: str | None = None) -> ConfigurationRead:
    """Read one device's configuration from its text; see :func:`read`.

    Args:
        text: The configuration.
        name: The path that it would have: sheets are looked for beside it.
        dialect: Its dialect; recognised if None.

    Raises:
        InputError: it is in no known dialect.
    """
    return read_device(text, str(name), beside(str(name)), dialect)


def combine(reads: Sequence[ConfigurationRead], plan: LoadedPlan | None = None) -> Subject:
    """Several devices' configuration as one, for :func:`check`.

    Args:
        reads: The configuration, as :func:`read` gives it.
        plan: A plan that it is checked with, if there is one. What the plan states about a
            device or a network counts; what only the configuration has is added.

    Raises:
        InputError: two files are the configuration of one device.
    """
    return ReadSubject(reads, plan)


def convert(read: ConfigurationRead, dialect: str) -> DeviceConfiguration:
    """Convert one device's configuration to another dialect; what is lost is in the result.

    Args:
        read: The configuration, as :func:`read` gives it.
        dialect: The dialect to convert to.

    Raises:
        InputError: the dialect is unknown, or its sheet has mistakes.
    """
    return convert_read(read, beside(read.file).sheet(dialect))
