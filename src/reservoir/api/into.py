"""A plan written into the configuration that devices have: whose a file is, what it becomes."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from reservoir.api.configuration import combine
from reservoir.api.plans import File, OpenedPlan, check, new_findings, write
from reservoir.configurations import backup_of, configuration_text
from reservoir.core.findings import Finding, Severity
from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.subject import Subject
from reservoir.dialects.notations.files import FILE_MARK, in_files
from reservoir.dialects.reading import ConfigurationRead, read_device
from reservoir.dialects.sheet.library import Library, beside
from reservoir.dialects.writing import DeviceConfiguration
from reservoir.files.changing import with_mark_of
from reservoir.files.texts import read_files

CLEAR_SHARE = 0.5
"""No other dialect can make twice as much sense of a file that is understood so far."""


class UnclearDeviceError(ValueError):
    """It isn't clear which device of the plan a file belongs to."""


@dataclass(frozen=True)
class Present:
    """A device's present configuration."""

    read: ConfigurationRead
    originals: Mapping[Path, str]
    """Its files, as they are."""
    is_several: bool
    """Whether it is a folder of files."""

    @property
    def file(self) -> str:
        """The file or folder."""
        return self.read.file

    def files(self, text: str) -> dict[Path, str]:
        """The files that a text for it goes into."""
        if not text.startswith(FILE_MARK):
            return {Path(self.file): text}
        parts = {
            Path(self.file) / name if self.is_several else Path(self.file): inside
            for name, inside in in_files(text)
        }
        return {path: self._with_edges(path, inside) for path, inside in parts.items()}

    def _with_edges(self, path: Path, text: str) -> str:
        """A new text for a file, with the blanks at its beginning and its end as they were."""
        old = self.originals.get(path, "")
        begin, end = len(old) - len(old.lstrip("\r\n")), len(old.rstrip())
        lines = text.strip("\r\n").rstrip()
        is_last = lines.rpartition("\n")[2] == old[:end].rpartition("\n")[2]
        after = old[end:] if is_last else "\r\n" if "\r\n" in text else "\n"
        return old[:begin] + lines + after


@dataclass(frozen=True)
class WrittenInto:
    """A device's present configuration, and what a plan makes of it."""

    present: Present
    configuration: DeviceConfiguration
    is_of_some: bool = False
    """Whether only some of the plan's networks are written."""

    @property
    def files(self) -> dict[Path, str]:
        """Its files with their new texts."""
        return self.present.files(self.configuration.text)

    @property
    def is_changed(self) -> bool:
        """Whether anything in it is to be changed."""
        return self.configuration.text != self.present.read.text

    @property
    def changed(self) -> dict[Path, str]:
        """Those that get another text, each with the byte-order mark that it had."""
        old = self.present.originals
        return {
            path: with_mark_of(path, text)
            for path, text in self.files.items()
            if text != old.get(path)
        }

    @property
    def backups(self) -> dict[Path, str]:
        """Copies of what is changed; of a folder's files in a folder of their own beside it."""
        there, folder = self.present, backup_of(self.present.file)
        return {
            folder / path.relative_to(there.file)
            if there.is_several
            else backup_of(path): with_mark_of(path, there.originals[path])
            for path in self.changed
            if path in there.originals
        }

    def read_again(self) -> ConfigurationRead:
        """The new text, read."""
        there = self.present.read
        return read_device(self.configuration.text, there.file, beside(there.file), there.dialect)

    def new_errors(self) -> tuple[Subject, list[Finding]]:
        """What checks find in the configuration as it would be, and the errors it hasn't now."""
        if not self.is_changed:
            return combine([self.present.read]), []
        before, after = combine([self.present.read]), combine([self.read_again()])
        new = new_findings(check(before), check(after))
        return after, [finding for finding in new if finding.severity is Severity.ERROR]


def write_into(
    plan: OpenedPlan,
    files: Iterable[File],
    devices: Collection[str] = (),
    *,
    remove_others: bool = False,
    only: Collection[str] = (),
) -> list[WrittenInto]:
    """Write a plan into the configuration that devices have; no file is touched.

    Args:
        plan: The plan.
        files: A file or folder for each device; ``-`` is standard input.
        devices: The devices that they may belong to; all that have a dialect if empty.
        remove_others: Whether such a device may serve no other networks.
        only: The networks that are written; all if empty.

    Raises:
        UnclearDeviceError: it isn't clear which device a file belongs to.
        UnknownNameError: the plan has no such device or network.
        InputError: a file can't be read, isn't in its device's dialect, or its notation is broken.
    """
    present = _present(map(str, files), plan, devices)
    texts = {device: there.read.text for device, there in present.items()}
    written = [
        WrittenInto(present[configuration.device], configuration, bool(only))
        for configuration in write(plan, list(present), texts, remove_others, only)
    ]
    _require_sound(written)
    return written


def _require_sound(written: Sequence[WrittenInto]) -> None:
    """Refuse configuration whose notation is broken.

    Raises:
        InputError: it is.
    """
    broken = [
        Problem(
            one.present.read.place(fault.line, fault.column), f"{fault.message}; fix this first"
        )
        for one in written
        if one.configuration.placed is not None
        for fault in one.configuration.placed.faults
    ]
    if broken:
        raise InputError(broken)


def _present(
    files: Iterable[str], plan: OpenedPlan, devices: Collection[str]
) -> dict[str, Present]:
    """The present configuration of devices of the plan, by the devices' names."""
    library = beside(plan.files[0])
    dialects = {
        name: device.dialect
        for name, device in plan.plan.devices.items()
        if device.dialect is not None and (not devices or name in devices)
    }
    found: dict[str, Present] = {}
    for file in files:
        text = configuration_text(file)
        reads = {name: read_device(text, file, library, name) for name in set(dialects.values())}
        stated = {name: str(read.reading.device.get("name", "")) for name, read in reads.items()}
        device = _whose(file, dialects, stated)
        name = stated[dialects[device]]
        if name and name != device and not devices:
            raise UnclearDeviceError(
                f"{file} is the configuration of {name}, not of {device}; "
                f"if it is to become that of {device}, use --device {device}."
            )
        if device in found:
            raise UnclearDeviceError(
                f"{file} and {found[device].file} are both the configuration of {device}."
            )
        _require_dialect(reads[dialects[device]], text, library)
        is_several = Path(file).is_dir()
        originals = (
            {Path(file) / name: inside for name, inside in read_files(file)}
            if is_several
            else {Path(file): text}
        )
        found[device] = Present(reads[dialects[device]], originals, is_several)
    return found


def _whose(file: str, dialects: Mapping[str, str], stated: Mapping[str, str]) -> str:
    """The device that a file belongs to: as it states, by its name, or as the only one."""
    as_stated = [name for name, dialect in dialects.items() if stated[dialect] == name]
    by_name = [name for name in dialects if name in (Path(file).stem, Path(file).name)]
    for candidates in (as_stated, by_name, list(dialects)):
        if len(candidates) == 1:
            return candidates[0]
    raise UnclearDeviceError(f"{file} could belong to several devices; choose one with --device.")


def _require_dialect(read: ConfigurationRead, text: str, library: Library) -> None:
    """Refuse a file that makes far more sense in another dialect.

    Raises:
        InputError: it does.
    """
    if read.share >= CLEAR_SHARE:
        return
    try:
        recognised = read_device(text, read.file, library)
    except InputError:
        return  # nothing in it is about DHCP yet
    if recognised.dialect != read.dialect and recognised.share > 2 * read.share:
        message = (
            f"this looks like {recognised.dialect}, but in the plan the device is {read.dialect}"
        )
        raise InputError([Problem(Place(read.file), message)])
