"""Writes facts with a sheet, and says exactly what it could not write.

What comes back claims to be *expressed*: reading the text again must give just these facts.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from reservoir.core.addressing import MalformedValueError
from reservoir.dialects.sheet import Row, Sheet
from reservoir.dialects.vocabulary import REMARKS, Fact


@dataclass(frozen=True)
class Refusal:
    """A fact that could not be written, or a field of one that was left out."""

    fact: Fact
    field: str
    """The field that was left out; empty if the whole fact was."""
    reason: str

    @property
    def what(self) -> str:
        """What was left out, for a message."""
        return f"the {self.field} of {self.fact.label}" if self.field else self.fact.label

    @property
    def is_remark(self) -> bool:
        """Whether only people would have read it."""
        return (self.fact.kind, self.field) in REMARKS


@dataclass(frozen=True)
class Written:
    """A configuration, and what it doesn't say."""

    text: str
    expressed: Fact
    """The device with all facts that the text states."""
    refusals: tuple[Refusal, ...]


class Block(NamedTuple):
    """The lines of a fact at the top level."""

    kind: str
    lines: list[str]


def write_configuration(device: Fact, sheet: Sheet) -> Written:
    """Write a device's facts, in the order of the sheet's rows."""
    writer = _Writer(sheet)
    expressed = writer.device(device)
    text = "".join(f"{line}\n" for line in _spaced(writer.blocks))
    return Written(text, expressed, tuple(writer.refusals))


def _spaced(blocks: list[Block]) -> list[str]:
    """The lines of all blocks, with an empty one between long blocks and between kinds."""
    spaced: list[str] = []
    before: Block | None = None
    for block in blocks:
        if before is not None and (
            len(block.lines) > 1 or len(before.lines) > 1 or block.kind != before.kind
        ):
            spaced.append("")
        spaced += block.lines
        before = block
    return spaced


@dataclass
class _Writer:
    sheet: Sheet
    blocks: list[Block] = field(default_factory=list)
    refusals: list[Refusal] = field(default_factory=list)

    def device(self, device: Fact) -> Fact:
        """Write the device and everything in it."""
        said: set[str] = set()
        children: list[Fact] = []
        rest = _by_kind(device.children)
        for kind, rows in self.sheet.groups:
            if kind == "device":
                self._device_rows(rows, device, said)
                continue
            for fact in rest.pop(kind, ()):
                block = Block(kind, [])
                if (written := self._fact(fact, rows, "", block.lines)) is not None:
                    self.blocks.append(block)
                    children.append(written)
        self._refuse_all(rest, "")
        self._note_unsaid(device, said)
        return Fact("device", _only(device.fields, said), children)

    def _device_rows(self, rows: list[Row], device: Fact, said: set[str]) -> None:
        for row in rows:
            if not row.applies(device.fields):
                continue
            try:
                text = row.pattern.write(device.fields, said)
            except MalformedValueError as error:
                self._refuse(device, "name", str(error))
                said.add(_refused("name"))
                device = Fact("device", _without(device.fields, "name"))
                continue
            said.update(row.conditions)
            self.blocks.append(Block("device", [text]))

    def _fact(self, fact: Fact, rows: list[Row], indent: str, lines: list[str]) -> Fact | None:
        """Append the fact's lines; None if it is refused, with nothing appended."""
        row = next((row for row in rows if row.applies(fact.fields)), None)
        if row is None:
            self._refuse(fact, "", self._why_not(fact, rows))
            return None
        said: set[str] = {*row.conditions, *row.same_as}
        begun, children = len(lines), []
        try:
            lines.append(indent + row.pattern.write(fact.fields, said))
            if row.children:
                children = self._inside(fact, row, indent, lines, said)
        except MalformedValueError as error:
            del lines[begun:]
            self._refuse(fact, "", str(error))
            return None
        if not row.children and fact.children:
            self._refuse_all(_by_kind(fact.children), f" in a {fact.kind}")
        self._note_unsaid(fact, said)
        return Fact(fact.kind, _only(fact.fields, said), children, origin=fact.origin)

    def _inside(
        self, fact: Fact, row: Row, indent: str, lines: list[str], said: set[str]
    ) -> list[Fact]:
        """Write what stands inside a fact's block, and close the block."""
        deeper = indent + " " * self.sheet.nesting.indent
        children: list[Fact] = []
        rest = _by_kind(fact.children)
        for kind, rows in row.groups:
            if not kind:
                for inner in rows:
                    self._field_row(fact, inner, deeper, lines, said)
                continue
            for child in rest.pop(kind, ()):
                if (written := self._fact(child, rows, deeper, lines)) is not None:
                    children.append(written)
        self._refuse_all(rest, f" in a {fact.kind}")
        if self.sheet.nesting.end:
            lines.append(indent + self.sheet.nesting.end)
        return children

    def _field_row(
        self, fact: Fact, row: Row, indent: str, lines: list[str], said: set[str]
    ) -> None:
        if row.repeat == "*":
            (name,) = row.pattern.required_fields
            lines += [
                indent + row.pattern.write({name: item}, said) for item in fact.fields.get(name, ())
            ]
        elif not row.applies(fact.fields):
            if not row.repeat:
                raise MalformedValueError(self._why_not(fact, [row]))
        else:
            try:
                lines.append(indent + row.pattern.write(fact.fields, said))
                said.update(row.conditions)
            except MalformedValueError as error:
                if not row.repeat:
                    raise
                for name in row.pattern.required_fields:
                    self._refuse(fact, name, str(error))
                    said.add(_refused(name))

    def _note_unsaid(self, fact: Fact, said: set[str]) -> None:
        """Report the fields that no line has said, unless they say what is assumed anyway."""
        for name in fact.fields.keys() - said:
            assumed = self.sheet.assumed.get((fact.kind, name))
            if _refused(name) not in said and fact.fields[name] != assumed:
                self._refuse(fact, name, f"{self.sheet.name} has no line for its {name}")

    def _why_not(self, fact: Fact, rows: list[Row]) -> str:
        wanted = set(rows[0].pattern.required_fields) - fact.fields.keys() if rows else set()
        if wanted:
            return f"{self.sheet.name} wants its {' and '.join(sorted(wanted))}"
        return f"{self.sheet.name} has no line for it"

    def _refuse(self, fact: Fact, name: str, reason: str) -> None:
        self.refusals.append(Refusal(fact, name, reason))

    def _refuse_all(self, facts: dict[str, list[Fact]], where: str) -> None:
        for group in facts.values():
            for fact in group:
                self._refuse(fact, "", f"{self.sheet.name} has no line for it{where}")


def _by_kind(facts: Sequence[Fact]) -> dict[str, list[Fact]]:
    found: dict[str, list[Fact]] = {}
    for fact in facts:
        found.setdefault(fact.kind, []).append(fact)
    return found


def _refused(name: str) -> str:
    """The mark, among what was said, of a field whose refusal has been reported."""
    return f"refused {name}"


def _only(fields: dict[str, Any], said: set[str]) -> dict[str, Any]:
    return {name: value for name, value in fields.items() if name in said}


def _without(fields: dict[str, Any], name: str) -> dict[str, Any]:
    return {key: value for key, value in fields.items() if key != name}
