"""The form of lease times, by a template of units."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.durations import INFINITE, UNIT_SECONDS, checked_duration
from reservoir.dialects.forms.form import Form


@dataclass(frozen=True)
class Unit:
    """A number of some unit in a lease time."""

    letter: str


@dataclass(frozen=True)
class DurationForm(Form):
    """A lease time by a template such as ``{d} days {h} hours``, and a word for infinite.

    What is in brackets, as in ``[{d}d][{h}h]``, is left out where its numbers are 0.
    """

    template: str = "{s}"
    infinite: str = ""
    also: str = ""
    """Another template, which is read too."""
    pattern: str = ".+?"

    @cached_property
    def parts(self) -> tuple[Any, ...]:
        """Text, units, and tuples of such for what is in brackets.

        Raises:
            MalformedValueError: brackets that don't match.
        """
        stack: list[list[Any]] = [[]]
        for piece in re.findall(r"\{[wdhms]\}|\[|\]|[^][{]+|\{", self.template):
            if piece == "[":
                stack.append([])
            elif piece == "]" and len(stack) > 1:
                group = tuple(stack.pop())
                stack[-1].append(group)
            else:
                stack[-1].append(Unit(piece[1]) if piece[0] == "{" and piece[1:] else piece)
        if len(stack) > 1 or "]" in stack[0]:
            raise MalformedValueError(f"the brackets in {self.template!r} don't match")
        return tuple(stack[0])

    @cached_property
    def units(self) -> list[str]:
        """The units that the template has, in its order."""
        return re.findall(r"\{([wdhms])\}", self.template)

    @property
    def step(self) -> int:
        """Seconds of the smallest unit: what can't be divided by it can't be said."""
        return min(UNIT_SECONDS[unit] for unit in self.units)

    @property
    def signs(self) -> set[str]:
        """What stands between the numbers, and the word for infinite."""
        bare = re.sub(r"\{[wdhms]\}|[][]", "", self.template)
        return set(bare + self.infinite) | {"0"}

    @cached_property
    def _expression(self) -> re.Pattern[str]:
        return re.compile(_duration_expression(self.parts, "([0-9]{1,9})"))

    def read(self, text: str) -> int:
        if self.infinite and re.fullmatch(_blanks_free(self.infinite), text):
            return INFINITE
        found = self._expression.fullmatch(text)
        if self.also and (found is None or not any(found.groups())):
            return replace(self, template=self.also, also="").read(text)
        if found is None or not any(found.groups()):
            example = re.sub(r"\{[wdhms]\}", "1", re.sub("[][]", "", self.template))
            raise MalformedValueError(f"{text!r} is not a lease time, such as {example}")
        amounts = zip(found.groups(), self.units, strict=True)
        return checked_duration(sum(int(n or 0) * UNIT_SECONDS[u] for n, u in amounts), text)

    def write(self, value: int) -> str:
        if value == INFINITE:
            if not self.infinite:
                raise MalformedValueError("this dialect has no infinite lease")
            return self.infinite
        amounts = {}
        for unit in sorted(self.units, key=lambda unit: -UNIT_SECONDS[unit]):
            amounts[unit], value = divmod(value, UNIT_SECONDS[unit])
        if value:
            raise MalformedValueError(
                f"the remaining {value} seconds can't be written in this dialect"
            )
        return _duration_text(self.parts, amounts)


def _duration_expression(parts: tuple[Any, ...], number: str) -> str:
    pieces = []
    for part in parts:
        if isinstance(part, tuple):
            pieces.append(f"(?:{_duration_expression(part, number)})?")
        else:
            pieces.append(number if isinstance(part, Unit) else _blanks_free(part))
    return "".join(pieces)


def _duration_text(parts: tuple[Any, ...], amounts: Mapping[str, int]) -> str:
    text = ""
    for part in parts:
        if isinstance(part, tuple):
            text += _duration_text(part, amounts) if _has_amount(part, amounts) else ""
        else:
            text += str(amounts[part.letter]) if isinstance(part, Unit) else part
    return text


def _has_amount(parts: tuple[Any, ...], amounts: Mapping[str, int]) -> bool:
    return any(
        _has_amount(part, amounts)
        if isinstance(part, tuple)
        else isinstance(part, Unit) and amounts[part.letter] > 0
        for part in parts
    )


def _blanks_free(literal: str) -> str:
    """A pattern for a literal in which each run of blanks matches any run of blanks."""
    return "[ \\t]+".join(re.escape(word) for word in re.split("[ \\t]+", literal))
