"""Writes facts with a sheet, and says exactly what it could not write.

What comes back claims to be *expressed*: reading the text again must give just these facts.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import groupby
from typing import Any

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


def write_configuration(device: Fact, sheet: Sheet) -> Written:
    """Write a device's facts, in the order of the sheet's rows."""
    writer = _Writer(sheet)
    expressed = writer.device(device)
    text = "".join(f"{line}\n" for line in _spaced(writer.lines))
    return Written(text, expressed, tuple(writer.refusals))


@dataclass(slots=True)
class _Line:
    text: str
    kind: str
    opens: bool = False


def _spaced(lines: list[list[_Line]]) -> list[str]:
    """Lines of the top level's blocks, with an empty line between blocks and between kinds."""
    spaced: list[str] = []
    before: list[_Line] | None = None
    for block in lines:
        if before is not None and (
            len(block) > 1 or len(before) > 1 or block[0].kind != before[0].kind
        ):
            spaced.append("")
        spaced += [line.text for line in block]
        before = block
    return spaced


@dataclass
class _Writer:
    sheet: Sheet
    lines: list[list[_Line]] = field(default_factory=list)
    refusals: list[Refusal] = field(default_factory=list)

    def device(self, device: Fact) -> Fact:
        """Write the device and everything in it."""
        expressed = Fact("device", {})
        said: set[str] = set()
        by_kind: dict[str, list[Fact]] = {}
        for fact in device.children:
            by_kind.setdefault(fact.kind, []).append(fact)
        for kind, group in groupby(self.sheet.rows, key=lambda row: row.kind):
            rows = list(group)
            if kind == "device":
                for row in rows:
                    self._device_row(row, device, said)
                continue
            for fact in by_kind.pop(kind, ()):
                block: list[_Line] = []
                written = self._fact(fact, rows, 0, block)
                if written is not None:
                    self.lines.append(block)
                    expressed.children.append(written)
        for facts in by_kind.values():
            for fact in facts:
                self._refuse(fact, "", f"{self.sheet.name} has no line for it")
        self._note_unsaid(device, said)
        expressed.fields = {name: device.fields[name] for name in device.fields if name in said}
        return expressed

    def _device_row(self, row: Row, device: Fact, said: set[str]) -> None:
        if not row.applies(device.fields):
            return
        try:
            text = row.pattern.write(device.fields, said)
        except MalformedValueError as error:
            self._refuse(device, "name", str(error))
            return
        said.update(row.conditions)
        self.lines.append([_Line(text, "device")])

    def _fact(self, fact: Fact, rows: list[Row], depth: int, lines: list[_Line]) -> Fact | None:
        """Append the fact's lines; None if it is refused, with nothing appended."""
        row = next((row for row in rows if row.applies(fact.fields)), None)
        if row is None:
            self._refuse(fact, "", f"{self.sheet.name} has no line for it")
            return None
        said: set[str] = {*row.conditions, *row.same_as}
        own: list[_Line] = []
        children: list[Fact] = []
        try:
            head = self._indented(row.pattern.write(fact.fields, said), depth)
            own.append(_Line(head, fact.kind, bool(row.children)))
            self._inside(fact, row, depth + 1, own, said, children)
        except MalformedValueError as error:
            self._refuse(fact, "", str(error))
            return None
        if row.children and self.sheet.nesting.end:
            own.append(_Line(self._indented(self.sheet.nesting.end, depth), fact.kind))
        self._note_unsaid(fact, said)
        lines += own
        fields = {name: value for name, value in fact.fields.items() if name in said}
        return Fact(fact.kind, fields, children, origin=fact.origin)

    def _inside(
        self,
        fact: Fact,
        row: Row,
        depth: int,
        lines: list[_Line],
        said: set[str],
        children: list[Fact],
    ) -> None:
        by_kind: dict[str, list[Fact]] = {}
        for child in fact.children:
            by_kind.setdefault(child.kind, []).append(child)
        for kind, group in groupby(row.children, key=lambda row: row.kind):
            rows = list(group)
            if not kind:
                for inner in rows:
                    self._field_row(fact, inner, depth, lines, said)
                continue
            for child in by_kind.pop(kind, ()):
                written = self._fact(child, rows, depth, lines)
                if written is not None:
                    children.append(written)
        for facts in by_kind.values():
            for child in facts:
                self._refuse(child, "", f"{self.sheet.name} has no line for it in a {fact.kind}")

    def _field_row(
        self, fact: Fact, row: Row, depth: int, lines: list[_Line], said: set[str]
    ) -> None:
        if row.repeat == "*":
            (name,) = row.pattern.required_fields
            for item in fact.fields.get(name, ()):
                self._append(row, {name: item}, depth, lines, said)
            return
        if not row.applies(fact.fields):
            if not row.repeat:
                missing = sorted(
                    name for name in row.pattern.required_fields if fact.fields.get(name) is None
                )
                raise MalformedValueError(f"{self.sheet.name} wants its {' and '.join(missing)}")
            return
        try:
            self._append(row, fact.fields, depth, lines, said)
            said.update(row.conditions)
        except MalformedValueError as error:
            if not row.repeat:
                raise
            for name in sorted(row.pattern.required_fields):
                self._refuse(fact, name, str(error))
                said.add(f"refused {name}")

    def _append(
        self, row: Row, fields: dict[str, Any], depth: int, lines: list[_Line], said: set[str]
    ) -> None:
        lines.append(_Line(self._indented(row.pattern.write(fields, said), depth), ""))

    def _indented(self, text: str, depth: int) -> str:
        return " " * (self.sheet.nesting.indent * depth) + text

    def _note_unsaid(self, fact: Fact, said: set[str]) -> None:
        for name, value in fact.fields.items():
            unsaid = name not in said and f"refused {name}" not in said
            assumed = self.sheet.assumed.get((fact.kind, name))
            if unsaid and value not in (None, (), "", assumed):
                self._refuse(fact, name, f"{self.sheet.name} has no line for its {name}")

    def _refuse(self, fact: Fact, name: str, reason: str) -> None:
        self.refusals.append(Refusal(fact, name, reason))
