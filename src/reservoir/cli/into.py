"""``reservoir write --into``: a plan merged into a device's present configuration."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from reservoir.cli.output import complain, show, talk, width

if TYPE_CHECKING:
    from reservoir.core.problems import Place
    from reservoir.dialects.reading import ConfigurationRead
    from reservoir.dialects.sheet.library import Library
    from reservoir.dialects.writing import DeviceConfiguration
    from reservoir.files.plan_file import LoadedPlan


CONTEXT = 3
"""Unchanged lines that are shown around each change."""


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
        from reservoir.dialects.notations.files import FILE_MARK, in_files

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


def present_configurations(
    files: Collection[str], loaded: LoadedPlan, devices: Collection[str]
) -> dict[str, Present]:
    """The present configuration of devices of the plan, by the devices' names.

    Raises:
        InputError: a file can't be read, isn't in its device's dialect, or its notation is broken.
        UsageError: it isn't clear which device a file belongs to.
    """
    from reservoir import configuration_text
    from reservoir.dialects.reading import read_device
    from reservoir.dialects.sheet.library import beside
    from reservoir.files.texts import read_files

    library = beside(loaded.files[0])
    dialects = {
        name: device.dialect
        for name, device in loaded.plan.devices.items()
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
            raise click.UsageError(
                f"{file} is the configuration of {name}, not of {device}; "
                f"if it is to become that of {device}, use --device {device}."
            )
        if device in found:
            raise click.UsageError(
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
    raise click.UsageError(f"{file} could belong to several devices; choose one with --device.")


def _require_dialect(read: ConfigurationRead, text: str, library: Library) -> None:
    """Refuse a file that makes far more sense in another dialect."""
    from reservoir.core.problems import InputError, Place, Problem
    from reservoir.dialects.reading import read_device

    if read.share >= 0.5:
        return  # no other dialect can make twice as much sense of it
    try:
        recognised = read_device(text, read.file, library)
    except InputError:
        return  # nothing in it is about DHCP yet
    if recognised.dialect != read.dialect and recognised.share > 2 * read.share:
        message = (
            f"this looks like {recognised.dialect}, but in the plan the device is {read.dialect}"
        )
        raise InputError([Problem(Place(read.file), message)])


def require_placed(written: list[DeviceConfiguration], present: Mapping[str, Present]) -> None:
    """Stop where something that a pool needs is missing.

    Raises:
        InputError: the notation of a present configuration is broken.
    """
    from reservoir.core.problems import InputError, Problem

    broken, missing = [], False
    for configuration in written:
        placed, there = configuration.placed, present[configuration.device]
        assert placed is not None
        for fault in placed.faults:
            message = f"{fault.message}; fix this first"
            broken.append(Problem(there.read.place(fault.line, fault.column), message))
        for what in placed.missing:
            missing = True
            complain(f"{there.file}: {what}; give both the same name")
    if broken:
        raise InputError(broken)
    if missing:
        talk("\nNothing was written: the same interface may have two names.")
        raise click.exceptions.Exit(1)


def require_no_new_errors(
    written: list[DeviceConfiguration], present: Mapping[str, Present]
) -> None:
    """Stop where a device's configuration, checked by itself, would have errors that it hasn't."""
    from reservoir.dialects.sheet.library import beside
    from reservoir.dialects.writing import anywhere

    found = False
    for configuration in written:
        there = present[configuration.device].read
        if configuration.text == there.text:
            continue
        library = beside(there.file)
        known = Counter(anywhere(message) for _, message in _errors(there))
        for where, message in _errors(_read(configuration.text, there, library)):
            known[anywhere(message)] -= 1
            if known[anywhere(message)] < 0:
                found = True
                complain(f"{there.file} as planned{where}: {message}")
    if found:
        talk("\nNothing was written: the configuration would have new errors.")
        raise click.exceptions.Exit(1)


def _read(text: str, there: ConfigurationRead, library: Library) -> ConfigurationRead:
    from reservoir.dialects.reading import read_device

    return read_device(text, there.file, library, there.dialect)


def _errors(read: ConfigurationRead) -> Iterator[tuple[str, str]]:
    """The errors in a device's configuration alone: the lines that they are at, what they say."""
    import reservoir
    from reservoir.core.findings import Severity

    subject = reservoir.combine([read])
    for finding in reservoir.check(subject).findings:
        if finding.severity is Severity.ERROR:
            line = subject.place(finding.at).line
            yield f", line {line}" if line else "", f"{finding.rule}: {finding.message}"


def put_into(
    written: list[DeviceConfiguration],
    present: Mapping[str, Present],
    out: str | None,
    *,
    has_backup: bool,
) -> None:
    """Change the files, each with a copy of what it was; or those of their names elsewhere."""
    from reservoir.files.changing import change_files, with_mark_of
    from reservoir.files.deliveries import Delivery, deliver

    deliveries: list[Delivery] = []
    changed: dict[Path, str] = {}
    was: dict[Path, str] = {}
    for configuration in written:
        there = present[configuration.device]
        new, old = there.files(configuration.text), there.originals
        folder = Path(there.file).name if there.is_several else ""
        deliveries += [Delivery(path.name, text, folder) for path, text in new.items()]
        changed |= {p: with_mark_of(p, text) for p, text in new.items() if text != old.get(p)}
        was |= {path: text for path, text in old.items() if path in changed}
    if out is not None:
        deliver(Path(out), deliveries)
    else:
        backups = _backups(present, was) if has_backup else {}
        change_files({**backups, **changed}, was)
        for path in backups:
            talk(f"{path}: as it was before")
    for configuration in written:
        there = present[configuration.device]
        where = there.file if out is None else str(Path(out) / Path(there.file).name)
        _tell(configuration, there, where)
    _tell_what_is_proved(written, "Each file")


def _backups(present: Mapping[str, Present], was: Mapping[Path, str]) -> dict[Path, str]:
    """Copies of what is changed; of a folder's files in a folder of their own beside it."""
    from reservoir.files.changing import with_mark_of

    found: dict[Path, str] = {}
    for there in present.values():
        for path, text in there.originals.items():
            if path in was:
                folder = Path(f"{there.file.rstrip('/')}.before")
                copy = folder / path.name if there.is_several else Path(f"{path}.before")
                found[copy] = with_mark_of(path, text)
    for copy in found:
        copy.parent.mkdir(exist_ok=True)
    return found


def show_changes(written: list[DeviceConfiguration], present: Mapping[str, Present]) -> None:
    """Show what would be changed in the files, as a difference, and what clients notice of it."""
    from reservoir.cli.output import show_difference
    from reservoir.reports.difference import unified_difference

    for configuration in written:
        there = present[configuration.device]
        for path, text in there.files(configuration.text).items():
            before, after = there.originals.get(path, "").splitlines(), text.splitlines()
            names = str(path), "as planned"
            show_difference(unified_difference(before, after, names, CONTEXT))
        _show_effect(configuration, there)
        _tell(configuration, there, there.file)
    _tell_what_is_proved(written, "The result")
    is_same = all(one.text == present[one.device].read.text for one in written)
    talk("Nothing is to be changed." if is_same else "No file was changed; --in-place does it.")


def _show_effect(configuration: DeviceConfiguration, there: Present) -> None:
    """What the change means for the device's clients."""
    import reservoir
    from reservoir.dialects.sheet.library import beside
    from reservoir.reports.comparison import lines

    after = _read(configuration.text, there.read, beside(there.file))
    comparison = reservoir.compare(reservoir.combine([there.read]), reservoir.combine([after]))
    if not comparison.is_same:
        show(["", *lines(comparison, None, (), width())])


def _tell(configuration: DeviceConfiguration, there: Present, where: str) -> None:
    """Say how much is changed in a device's files, and what stays there."""
    change = _change(there, there.files(configuration.text))
    talk(f"{configuration.device}  {configuration.dialect}  {where}: {change}")
    for place, what in sorted(_said(configuration, there)):
        talk(f"  {place}: {what}")


def _tell_what_is_proved(written: list[DeviceConfiguration], what: str) -> None:
    from reservoir.core.wording import counted  # late: --help needs none of it

    talk(f"{what} was read back and matches the plan: pools, bindings and options.")
    lines = sum(unread.lines for one in written for unread in one.not_understood)
    if lines:
        stay = "stays; what it does" if lines == 1 else "stay; what they do"
        talk(f"{counted(lines, 'line')} not understood {stay} is not part of this.")


def _change(there: Present, new: Mapping[Path, str]) -> str:
    """How many lines were added and removed."""
    from reservoir.core.wording import counted  # late: --help needs none of it

    before = Counter(line for text in there.originals.values() for line in text.split("\n"))
    after = Counter(line for text in new.values() for line in text.split("\n"))
    more, less = (after - before).total(), (before - after).total()
    stay = before.total() - less - len(new)  # nothing follows the last line end
    return f"{counted(more, 'line')} added, {less:,} removed, {stay:,} unchanged"


def _said(configuration: DeviceConfiguration, there: Present) -> Iterator[tuple[Place, str]]:
    """What people should know about the files as they were, and what was added to them."""
    from reservoir.core.problems import Place

    placed = configuration.placed
    assert placed is not None
    for label, text in placed.added:
        yield Place(there.file), f"{label} is added, since a network needs it: {text}"
    for line, label in placed.removed:
        yield there.read.place(line, 1), f"{label} is removed, since it is not in the plan"
    for line, label in placed.others:
        yield there.read.place(line, 1), f"{label} stays: in the plan this device doesn't serve it"
    for line, found, planned in placed.left:
        yield there.read.place(line, 1), f"{found!r} stays, but the plan has {planned!r}"
    for unread in configuration.not_understood:
        yield there.read.place(unread.line, unread.column), f"stays: {unread.message}"
