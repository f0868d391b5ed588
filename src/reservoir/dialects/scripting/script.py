"""A device's change script: the statements that lead from one text to another."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from reservoir.dialects.parts import parts_that_differ
from reservoir.dialects.render.present_text import PresentText
from reservoir.dialects.render.statements import NotStatedError, applied
from reservoir.dialects.scripting.ordering import Ordering, ScriptLine, UnsafeError
from reservoir.dialects.scripting.states import States
from reservoir.dialects.sheet.model import Sheet


@dataclass(frozen=True)
class Script:
    """The way from one configuration to another; each of its prefixes was proved safe."""

    lines: Sequence[ScriptLine]

    def given_to(self, text: str, sheet: Sheet) -> str:
        """The text of a configuration once the device has been given it all."""
        text = _ended(text)
        for line in self.lines:
            text = applied(PresentText.of(text, sheet), line.text, sheet)
        return text


@dataclass(frozen=True)
class DeviceScript:
    """The way of one device from its old to its new configuration."""

    device: str
    dialect: str
    old: str
    """The text of its old configuration."""
    new: str
    """The text of its new one."""
    script: Script | None
    """None where the dialect has no lines that undo others: the file is replaced as a whole."""
    comment: str
    """What begins a comment there; empty if nothing does."""


@dataclass(frozen=True)
class Stage:
    """What is done together, and what is waited for before the next stage."""

    what: tuple[str, ...]
    """What it does, in sentences."""
    scripts: Sequence[DeviceScript]
    wait: int
    """Seconds until the next stage may begin; 0 for none."""
    until: str
    """What has happened by then."""
    kept_back: Mapping[str, str] = field(default_factory=dict)
    """The devices that change and get no script, each with the reason."""
    by_hand: tuple[str, ...] = ()
    """The devices that are loaded then, and whose present configuration isn't known."""

    @property
    def devices(self) -> set[str]:
        """The devices that it tells of."""
        return {*(made.device for made in self.scripts), *self.by_hand}


def script(old: str, new: str, sheet: Sheet, device: str) -> Script:
    """The statements that lead from one configuration of a device to another.

    Args:
        old: The text of its present configuration.
        new: The text of the configuration that it is to have.
        sheet: Its dialect, which has lines that undo others.
        device: What it is called.

    Raises:
        UnsafeError: it can't be done by statements, or no order of them is safe.
    """
    states = States(sheet, device)
    before, after = (PresentText.of(_ended(text), sheet) for text in (old, new))
    lines: list[ScriptLine] = []
    try:
        for part in parts_that_differ(before, after, sheet):
            lines += Ordering(states, states.of(part.old), states.of(part.new)).ordered()
    except NotStatedError as error:
        raise UnsafeError(str(error)) from None
    return Script(lines)


def device_script(name: str, sheet: Sheet, before: str, after: str) -> DeviceScript:
    """The script from one text of a device's configuration to another.

    Raises:
        UnsafeError: there is none that is safe.
    """
    comment = next(iter(sheet.notation.comments), "")
    made = script(before, after, sheet, name) if sheet.undo_words else None
    return DeviceScript(name, sheet.name, before, after, made, comment)


def _ended(text: str) -> str:
    """A text whose last line ends too."""
    return text if text.endswith("\n") or not text else text + "\n"
