"""The form of lease times, by a template of units."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property
from typing import Any

from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.durations import INFINITE, UNIT_SECONDS, checked_duration
from reservoir.dialects.forms.form import Form, blanks_free


@dataclass(frozen=True)
class Unit:
    """A number of some unit in a lease time."""

    letter: str
    decimals: bool = False
    """Whether it may have decimals."""

    @classmethod
    def of(cls, slot: str) -> Unit:
        """The unit of ``{h}``, or ``{h.}``."""
        return cls(slot.strip("{.}"), "." in slot)

    @property
    def seconds(self) -> Fraction:
        """How long one is."""
        return _MILLISECOND if self.letter == "ms" else Fraction(UNIT_SECONDS[self.letter])

    @property
    def step(self) -> int:
        """The whole seconds of which any multiple can be said in it."""
        whole = math.ceil(self.seconds)
        return whole // math.gcd(whole, 10**_MOST_DECIMALS) if self.decimals else whole


_MILLISECOND = Fraction(1, 1_000)
_SLOT = r"\{(?:ms|[wdhms])\.?\}"
_MOST_DECIMALS = 6


@dataclass(frozen=True)
class DurationForm(Form):
    """A lease time by a template such as ``{d} days {h} hours``, and a word for infinite.

    What is in brackets, as in ``[{d}d][{h}h]``, is left out where its numbers are 0. Of several
    templates with ``|`` between them, the first that says a time exactly is written.
    """

    template: str = "{s}"
    infinite: str = ""
    also: str = ""
    """Another template, which is read too."""
    may_be_nothing: bool = False
    """Whether no time at all is one: what is left of a lease."""
    pattern: str = ".+?"

    @cached_property
    def ways(self) -> tuple[DurationForm, ...]:
        """A form for each of the templates, if there are several."""
        templates = self.template.split("|")
        return tuple(DurationForm(template) for template in templates) if templates[1:] else ()

    @cached_property
    def parts(self) -> tuple[Any, ...]:
        """Text, units, and tuples of such for what is in brackets.

        Raises:
            MalformedValueError: brackets that don't match.
        """
        stack: list[list[Any]] = [[]]
        for piece in re.findall(rf"{_SLOT}|\[|\]|[^][{{]+|\{{", self.template):
            if piece == "[":
                stack.append([])
            elif piece == "]" and len(stack) > 1:
                group = tuple(stack.pop())
                stack[-1].append(group)
            else:
                is_unit = piece[0] == "{" and piece[1:]
                stack[-1].append(Unit.of(piece) if is_unit else piece)
        if len(stack) > 1 or "]" in stack[0]:
            raise MalformedValueError(f"the brackets in {self.template!r} don't match")
        return tuple(stack[0])

    @cached_property
    def units(self) -> list[Unit]:
        """The units that the template has, in its order."""
        return [Unit.of(slot) for slot in re.findall(_SLOT, self.template)]

    @property
    def step(self) -> int:
        """Seconds of the smallest unit: what can't be divided by it can't be said."""
        return min(unit.step for unit in self.units)

    @property
    def signs(self) -> set[str]:
        """What stands between the numbers, and the word for infinite."""
        bare = re.sub(rf"{_SLOT}|[][|]", "", self.template)
        return set(bare + self.infinite) | {"0"} | {"." for u in self.units if u.decimals}

    @cached_property
    def _expression(self) -> re.Pattern[str]:
        return re.compile(_duration_expression(self.parts))

    def read(self, text: str) -> int:
        if self.infinite and re.fullmatch(blanks_free(self.infinite), text):
            return INFINITE
        for way in self.ways or (self,):
            found = way._expression.fullmatch(text)
            if found is not None and any(found.groups()):
                total = _seconds(found.groups(), way.units, text)
                is_nothing = total == 0 and self.may_be_nothing
                return 0 if is_nothing else checked_duration(total, text)
        if self.also:
            return replace(self, template=self.also, also="").read(text)
        example = re.sub(_SLOT, "1", re.sub("[][]", "", self.template)).replace("|", " or ")
        raise MalformedValueError(f"{text!r} is not a lease time, such as {example}")

    def write(self, value: int) -> str:
        if value == INFINITE:
            if not self.infinite:
                raise MalformedValueError("this dialect has no infinite lease")
            return self.infinite
        for way in self.ways:
            with suppress(MalformedValueError):
                return way.write(value)
        amounts: dict[Unit, str] = {}
        rest = Fraction(value)
        for unit in sorted(self.units, key=lambda unit: -unit.seconds):
            number = rest / unit.seconds
            amounts[unit] = _decimals(number) if unit.decimals else str(int(number))
            rest -= Fraction(amounts[unit]) * unit.seconds
        if rest:
            left = f"the remaining {rest} seconds" if rest >= 1 else f"exactly {value} seconds"
            raise MalformedValueError(f"{left} can't be written in this dialect")
        return _duration_text(self.parts, amounts)


def _seconds(amounts: Sequence[str | None], units: Sequence[Unit], text: str) -> int:
    """The seconds of a number of each unit.

    Raises:
        MalformedValueError: it isn't a whole number.
    """
    pairs = zip(amounts, units, strict=True)
    total = sum((Fraction(n or 0) * unit.seconds for n, unit in pairs), Fraction(0))
    if total.denominator != 1:
        raise MalformedValueError(f"{text!r} is not a whole number of seconds")
    return int(total)


def _decimals(number: Fraction) -> str:
    """A number with as many decimals as it has; cut off after a few."""
    digits = f"{number.numerator * 10**_MOST_DECIMALS // number.denominator:0{_MOST_DECIMALS + 1}}"
    whole, decimals = digits[:-_MOST_DECIMALS], digits[-_MOST_DECIMALS:].rstrip("0")
    return f"{whole}.{decimals}" if decimals else whole


def _duration_expression(parts: tuple[Any, ...]) -> str:
    pieces = []
    for part in parts:
        if isinstance(part, tuple):
            pieces.append(f"(?:{_duration_expression(part)})?")
        elif isinstance(part, Unit):
            pieces.append(f"([0-9]{{1,9}}{'(?:[.][0-9]{1,9})?' if part.decimals else ''})")
        else:
            pieces.append(blanks_free(part))
    return "".join(pieces)


def _duration_text(parts: tuple[Any, ...], amounts: Mapping[Unit, str]) -> str:
    text = ""
    for part in parts:
        if isinstance(part, tuple):
            text += _duration_text(part, amounts) if _has_amount(part, amounts) else ""
        else:
            text += amounts[part] if isinstance(part, Unit) else part
    return text


def _has_amount(parts: tuple[Any, ...], amounts: Mapping[Unit, str]) -> bool:
    return any(
        _has_amount(part, amounts)
        if isinstance(part, tuple)
        else isinstance(part, Unit) and amounts[part] != "0"
        for part in parts
    )
