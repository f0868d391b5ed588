"""Reservoir: DHCP plans that are checked, written and read back before anything is deployed.

The functions here are the public interface. Nothing heavy is imported until one is called.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from reservoir.version import __version__

if TYPE_CHECKING:
    from reservoir.core.checks import Report
    from reservoir.core.problems import InputError
    from reservoir.core.subject import Subject
    from reservoir.dialects.reading import ConfigurationRead
    from reservoir.dialects.sheet.model import Sheet
    from reservoir.dialects.writing import DeviceConfiguration
    from reservoir.files.plan_file import LoadedPlan

__all__ = [
    "InputError",
    "__version__",
    "check",
    "configuration_text",
    "load",
    "read",
    "together",
    "write",
]


def __getattr__(name: str) -> type[Exception]:
    """The exception that the functions raise, loaded when it is asked for."""
    if name != "InputError":
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from reservoir.core.problems import InputError  # late: dataclasses are not free

    return InputError


Watch = Callable[[float], None]
"""Is told which share of some work is done, 0 to 1."""


def load(file: str, watch: Watch | None = None) -> LoadedPlan:
    """Load a plan with everything that it includes.

    Args:
        file: Path of the plan, or ``-`` for standard input.
        watch: Offer how far the tables beside the plan have been read.

    Raises:
        InputError: the plan can't be used; every problem is listed with its place.
    """
    from reservoir.files.plan_file import load_plan  # late: costs the schema's import

    return load_plan(file, watch=watch)


def check(
    subject: Subject,
    *,
    today: datetime.date | None = None,
    select: Collection[str] = (),
    ignore: Collection[str] = (),
    at: Collection[str] = (),
    watch: Watch | None = None,
) -> Report:
    """Run the checks.

    Args:
        subject: A plan, configuration that was read, or both (:func:`together`).
        today: The day on which acceptances count; the present day if None.
        select: Rules or families to report; all if empty.
        ignore: Rules or families to leave out.
        at: Patterns of plan paths to report, such as ``networks.lab*``.
        watch: Offer how many of the rules have been looked at.

    Raises:
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    from reservoir.core.checks import check_plan  # late: costs NumPy
    from reservoir.core.pools import Pools
    from reservoir.dialects.behaviour.device import Behaviour
    from reservoir.dialects.behaviour.fit import obstacles_to

    pools, sheets = Pools(subject.plan), _sheets(subject)
    return check_plan(
        pools,
        lambda changed: [*obstacles_to(changed, sheets), *subject.obstacles],
        {name: Behaviour(sheet) for name, sheet in sheets.items()},
        subject.is_complete,
        today=today or datetime.date.today(),
        select=select,
        ignore=ignore,
        at=at,
        watch=watch,
    )


def write(
    loaded: LoadedPlan, devices: Collection[str] = (), into: Mapping[str, str] | None = None
) -> list[DeviceConfiguration]:
    """Write the configuration of a plan's devices; no file is touched.

    Each text has been read again and compared with the plan; what came back differently stands
    in its ``differences``, what the dialect can't say in its ``refusals``.

    Args:
        loaded: The plan.
        devices: The devices to write; all that have a dialect if empty.
        into: The configuration that devices have, by their names: what is assigned is put into it,
            and the rest stays. Of a device with several files, as one text.

    Raises:
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    from reservoir.core.pools import Pools  # late: costs NumPy
    from reservoir.dialects.writing import write_device

    pools = Pools(loaded.plan)
    return [
        write_device(pools, device, sheet, (into or {}).get(device))
        for device, sheet in _sheets(loaded).items()
        if not devices or device in devices
    ]


def read(files: Sequence[str], dialect: str | None = None) -> list[ConfigurationRead]:
    """Read devices' configuration into the plan's terms.

    Args:
        files: Paths, or ``-`` for standard input. A folder is one device's configuration.
        dialect: The dialect of all of them; recognised for each if None.

    Raises:
        InputError: a file can't be read, is in no known dialect, or belongs to a plan.
    """
    from reservoir.dialects.reading import read_device
    from reservoir.dialects.sheet.library import beside  # late: costs NumPy
    from reservoir.files.recognising import require_no_plan

    if dialect is None:
        for file in files:
            require_no_plan(file)
    return [read_device(configuration_text(file), file, beside(file), dialect) for file in files]


def together(reads: Sequence[ConfigurationRead], planned: LoadedPlan | None = None) -> Subject:
    """What several devices' configuration says as one, for :func:`check`.

    Args:
        reads: The configuration, as :func:`read` gives it.
        planned: A plan that it is beside, if there is one. What the plan says of a device or
            a network counts; what only the configuration has is added.
    """
    from reservoir.dialects.running.subject import ReadSubject  # late: costs NumPy

    return ReadSubject(reads, planned)


def configuration_text(file: str) -> str:
    """A device's configuration as one text.

    Args:
        file: Path of the file or of a folder of files, or ``-`` for standard input.

    Raises:
        InputError: it can't be read.
    """
    from reservoir.dialects.notations.files import in_one_text
    from reservoir.files.texts import read_files, read_text

    return in_one_text(read_files(file)) if Path(file).is_dir() else read_text(file)


def _sheets(subject: Subject) -> dict[str, Sheet]:
    from reservoir.dialects.sheet.library import beside

    library = beside(subject.files[0])
    return {
        name: library.sheet(device.dialect, subject.place(("devices", name, "dialect")))
        for name, device in subject.plan.devices.items()
        if device.dialect is not None
    }
