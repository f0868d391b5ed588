"""Lexical forms: how a value of each type is written in a dialect, and read from it.

A form has a pattern that finds where a value begins and ends in a line, loosely, so that a wrong
value is still found and can be named; reading it is strict. Writing never lets a value out of
its place: what a form can't write safely, it refuses.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from reservoir.core.addressing import (
    MalformedValueError,
    Prefix,
    bits_of_mask,
    format_address,
    mask_of,
    parse_address,
    parse_prefix,
)
from reservoir.core.clients import Mac, parse_mac
from reservoir.core.columns import address_column, mac_column
from reservoir.core.durations import INFINITE, UNIT_SECONDS, checked_duration

TOKEN = r"[^ \t\n]+?"  # noqa: S105 - a piece of syntax
"""Matches what has no blank in it, as little as will do."""


class Form(ABC):
    """How values of one type are written and read."""

    pattern: str = TOKEN
    """A regular expression without groups that matches the value in a line."""
    quoted: str = ""
    """One that matches only the value's quoted form, if it has one."""
    characters: str = ""
    """The characters that a value may have, if it has only some; never a blank."""

    @property
    def strict(self) -> str:
        """A pattern of well-formed values, perhaps not of all; a part of what ``pattern`` is."""
        return self.pattern

    @property
    def signs(self) -> set[str]:
        """Characters with a meaning of their own in the value: quotes, separators, units."""
        return set(self.characters)

    def read_all(self, texts: Sequence[str | None]) -> list[Any]:
        """The values of many texts; None where a text is none.

        Raises:
            MalformedValueError: one of them can't be read.
        """
        there = [text for text in texts if text is not None]
        values = self.read_column(there)
        if len(there) == len(texts):
            return values
        following = iter(values)
        return [None if text is None else next(following) for text in texts]

    def read_column(self, texts: Sequence[str]) -> list[Any]:
        """The values of many texts.

        Raises:
            MalformedValueError: one of them can't be read.
        """
        values = {text: self.read(text) for text in set(texts)}
        return [values[text] for text in texts]

    @abstractmethod
    def read(self, text: str) -> Any:
        """The value of a text. Raises MalformedValueError with what is wrong."""

    @abstractmethod
    def write(self, value: Any) -> str:
        """The text of a value. Raises MalformedValueError if it can't be written safely."""


@dataclass(frozen=True)
class Plain(Form):
    """A value without blanks that needs no quoting, by a pair of functions."""

    reader: Callable[[str], Any]
    writer: Callable[[Any], str]
    characters: str = ""
    template: str = ""
    """What a value looks like, with a 0 for each number in it."""
    column: Callable[[Sequence[str]], list[Any] | None] | None = None
    """Reads many at once; gives None if one is wrong."""

    @property
    def strict(self) -> str:
        """The characters; the digits and signs of the template."""
        allowed = self.characters or self.template.replace("0", "0123456789")
        return f"[{re.escape(''.join(sorted(set(allowed))))}]+" if allowed else self.pattern

    def read_column(self, texts: Sequence[str]) -> list[Any]:
        values = None if self.column is None else self.column(texts)
        return super().read_column(texts) if values is None else values

    @property
    def signs(self) -> set[str]:
        """The characters, or those of the template."""
        return set(self.characters + self.template)

    def read(self, text: str) -> Any:
        return self.reader(text)

    def write(self, value: Any) -> str:
        return self.writer(value)


def either(yes: str, no: str) -> Plain:
    """A form for yes and no: words for each, apart by blanks, of which the first is written."""
    words = dict.fromkeys(yes.split(), True) | dict.fromkeys(no.split(), False)

    def read(text: str) -> bool:
        if text not in words:
            raise MalformedValueError(f"{text!r} is none of {', '.join(words)}")
        return words[text]

    def write(value: bool) -> str:
        return next(word for word, meaning in words.items() if meaning == value)

    return Plain(read, write, characters="".join(words))


def _address_list(texts: Sequence[str]) -> list[int] | None:
    addresses = address_column(texts)
    return None if addresses is None else addresses.tolist()


_LENGTHS = {str(bits): bits for bits in range(33)}


def _prefix_column(texts: Sequence[str]) -> list[Prefix] | None:
    pairs = [text.partition("/")[::2] for text in texts]
    lengths = [_LENGTHS.get(bits) for _, bits in pairs]
    addresses = address_column([address for address, _ in pairs])
    if addresses is None or None in lengths:
        return None
    return list(map(Prefix, addresses.tolist(), lengths))  # type: ignore[arg-type]


def codes_except(codes: frozenset[int]) -> Plain:
    """A form for the codes of options that refuses some."""

    def refusing(code: int) -> int:
        if code in codes:
            raise MalformedValueError(f"this dialect has no option {code}")
        return code

    return Plain(
        lambda text: refusing(OPTION_CODE.read(text)),
        lambda code: str(refusing(code)),
        template="0",
    )


def _read_mask(text: str) -> int:
    return bits_of_mask(parse_address(text), repr(text))


def _number_from(lowest: int, highest: int) -> Plain:
    def read(text: str) -> int:
        if not re.fullmatch("[0-9]{1,9}", text) or not lowest <= int(text) <= highest:
            raise MalformedValueError(f"{text!r} is not a number from {lowest} to {highest}")
        return int(text)

    return Plain(read, str, template="0")


def _visible(text: str) -> str:
    """The text, if a plan can have it as a name."""
    if not text.isprintable() or not text.strip():
        raise MalformedValueError(f"{text!r} has characters that nobody can see")
    return text


def _read_hex(text: str) -> bytes:
    if not re.fullmatch("(?:[0-9A-Fa-f]{2})+", text):
        raise MalformedValueError(f"{text!r} is not hexadecimal bytes")
    return bytes.fromhex(text)


ADDRESS = Plain(parse_address, format_address, template="0.0.0.0", column=_address_list)
PREFIX = Plain(parse_prefix, str, template="0.0.0.0/0", column=_prefix_column)
NUMBER = _number_from(0, 999_999_999)
VLAN = _number_from(1, 4094)
OPTION_CODE = _number_from(1, 254)
HEX = Plain(_read_hex, bytes.hex, "0123456789abcdefABCDEF")

PREFIX_PARTS: Mapping[str, tuple[Form, Callable[[Prefix], int]]] = {
    "ip": (ADDRESS, lambda prefix: prefix.address),
    "mask": (
        Plain(_read_mask, lambda bits: format_address(mask_of(bits)), template="0.0.0.0"),
        lambda prefix: prefix.bits,
    ),
    "bits": (NUMBER, lambda prefix: prefix.bits),
}
"""Parts in which a prefix may be written: the form, and how to take the part from the value."""


def joined_prefix(parts: Mapping[str, int]) -> Prefix:
    """A prefix of its parts: the address, and its bits from a mask or a length.

    Raises:
        MalformedValueError: the length is above 32.
    """
    bits = parts.get("mask", parts.get("bits", 32))
    if bits > 32:
        raise MalformedValueError(f"{bits} is not a prefix length from 0 to 32")
    return Prefix(parts["ip"], bits)


@dataclass(frozen=True)
class Text(Form):
    """Free text: bare where that is safe, else quoted as the dialect does it, else refused."""

    quote: str = ""
    """The quotation sign, or nothing where the dialect has none."""
    doubled: bool = False
    """A sign inside is doubled; otherwise a backslash goes before it."""
    bare: str = "A-Za-z0-9._-"
    """The characters that need no quotation, as in a regular expression's set."""
    reserved: set[str] = field(default_factory=set, compare=False)
    """Words of the dialect, which are quoted when they are meant as a name, if it can quote."""

    @property
    def signs(self) -> set[str]:
        """The quotation sign."""
        return set(self.quote)

    @cached_property
    def _is_bare(self) -> Callable[[str], object]:
        return re.compile(f"[{self.bare}]+").fullmatch

    @cached_property
    def quoted(self) -> str:  # type: ignore[override]
        """The sign, what may stand inside, the sign."""
        if not self.quote:
            return ""
        sign = re.escape(self.quote)
        inside = f"[^{sign}\\n]|{sign}{sign}" if self.doubled else rf"[^{sign}\\\n]|\\."
        return f"{sign}(?:{inside})*{sign}"

    @cached_property
    def pattern(self) -> str:  # type: ignore[override]
        """A quoted text, or a token."""
        if not self.quote:
            return TOKEN
        return f"(?:{self.quoted}|[^ \\t\\n{re.escape(self.quote)}]+?)"

    @property
    def strict(self) -> str:
        """A quoted text, or characters that need no quotation."""
        return f"(?:{self.quoted}|[{self.bare}]+)" if self.quote else f"[{self.bare}]+"

    def read_column(self, texts: Sequence[str]) -> list[Any]:
        together = "".join(texts)
        if (self.quote and self.quote in together) or not self._is_bare(together):
            return super().read_column(texts)
        return list(texts)  # nothing in them has to be undone

    def read(self, text: str) -> str:
        if not self.quote or not text.startswith(self.quote):
            return _visible(text)
        inside = text[len(self.quote) : -len(self.quote)]
        if self.doubled:
            return _visible(inside.replace(self.quote * 2, self.quote))
        return _visible(re.sub(r"\\(.)", r"\1", inside))

    def write(self, value: str) -> str:
        _visible(value)
        if self._is_bare(value) and not (self.quote and value in self.reserved):
            return value
        if not self.quote:
            raise MalformedValueError(
                f"{value!r} has characters that this dialect doesn't allow in a name"
            )
        if self.doubled:
            return self.quote + value.replace(self.quote, self.quote * 2) + self.quote
        return self.quote + re.sub(rf"([\\{self.quote}])", r"\\\1", value) + self.quote


@dataclass(frozen=True)
class Enclosed(Form):
    """Free text between signs that the sheet's row has, with the escapes of its notation."""

    pattern: str = TOKEN
    forbidden: frozenset[str] = frozenset()
    """Characters that are never bare in it."""
    unescape: Callable[[str], str] = str
    escape: Callable[[str], str] = str

    @property
    def signs(self) -> set[str]:
        """What can't be bare in it."""
        return set(self.forbidden)

    def read(self, text: str) -> str:
        return _visible(self.unescape(text))

    def write(self, value: str) -> str:
        return self.escape(_visible(value))


@dataclass(frozen=True)
class EscapedBytes(Form):
    """Bytes as text, in which any byte may stand as an escape sign and two hexadecimal digits."""

    sign: str = "\\x"
    pattern: str = ".+?"

    @property
    def signs(self) -> set[str]:
        """Those of the escape sign."""
        return set(self.sign)

    def read(self, text: str) -> bytes:
        found = b""
        for escaped, plain in re.findall(f"{re.escape(self.sign)}([0-9A-Fa-f]{{2}})|(.)", text):
            found += bytes.fromhex(escaped) if escaped else plain.encode()
        return found

    def write(self, value: bytes) -> str:
        if not value:
            raise MalformedValueError("an empty value can't be written")
        return "".join(
            chr(byte) if chr(byte) in _NEEDS_NO_ESCAPE else f"{self.sign}{byte:02x}"
            for byte in value
        )


_NEEDS_NO_ESCAPE = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789._-/")


@dataclass(frozen=True)
class Quoted(Form):
    """A value of a list in quotation signs."""

    item: Form

    @property
    def signs(self) -> set[str]:
        """The quotation sign, and those of the item."""
        return {'"'} | self.item.signs

    @cached_property
    def pattern(self) -> str:  # type: ignore[override]
        """The item between signs."""
        return f'"{self.item.pattern}"'

    quoted = r'"(?:[^"\\]|\\.)*"'

    def read(self, text: str) -> Any:
        if not re.fullmatch(self.quoted, text):
            raise MalformedValueError(f"{text!r} is not in quotation signs")
        return self.item.read(text[1:-1])

    def write(self, value: Any) -> str:
        return f'"{self.item.write(value)}"'


class Rest(Form):
    """Text to the end of the line, as it stands."""

    pattern = ".+?"

    def read(self, text: str) -> str:
        return _visible(text)

    def write(self, value: str) -> str:
        if _visible(value) != value.strip(" \t"):
            raise MalformedValueError(f"{value!r} can't be written at the end of a line")
        return value


@dataclass(frozen=True)
class ListOf(Form):
    """Several values in one place, apart by a separator."""

    item: Form
    separator: str

    @cached_property
    def pattern(self) -> str:  # type: ignore[override]
        """Items and separators; blanks around a separator are free."""
        between = re.escape(self.separator.strip()) or "[ \\t]"
        return f"{self.item.pattern}(?:[ \\t]*{between}[ \\t]*{self.item.pattern})*?"

    @property
    def strict(self) -> str:
        """Items with the separator as it is written."""
        item = self.item.strict
        return f"{item}(?:{re.escape(self.separator)}{item})*"

    @property
    def signs(self) -> set[str]:
        """The separator's, and those of the items."""
        return set(self.separator) | self.item.signs

    @cached_property
    def _items(self) -> re.Pattern[str]:
        bare = f"[^ \\t\\n{re.escape(self.separator.strip())}]+"
        return re.compile(f"{self.item.quoted}|{bare}" if self.item.quoted else bare)

    def read(self, text: str) -> tuple[Any, ...]:
        return tuple(self.item.read(found) for found in self._items.findall(text))

    def write(self, value: Any) -> str:
        if not value:
            raise MalformedValueError("an empty list can't be written")
        return self.separator.join(self.item.write(item) for item in value)


@dataclass(frozen=True)
class MacForm(Form):
    """A MAC address in groups of digits, perhaps behind a hardware type."""

    group: int = 2
    separator: str = ":"
    prefix: str = ""
    upper: bool = False

    @property
    def strict(self) -> str:
        """As many digits and separators as are written."""
        length = 12 + (12 // self.group - 1) * len(self.separator)
        return f"{re.escape(self.prefix)}[0-9A-Fa-f{re.escape(self.separator)}]{{{length}}}"

    def read_column(self, texts: Sequence[str]) -> list[Any]:
        bare = texts
        if self.prefix:
            bare = [text.removeprefix(self.prefix) for text in texts]
            if sum(map(len, texts)) - sum(map(len, bare)) != len(texts) * len(self.prefix):
                return super().read_column(texts)
        values = mac_column(bare)
        return super().read_column(texts) if values is None else list(map(Mac, values.tolist()))

    @property
    def signs(self) -> set[str]:
        """Digits, separators and the prefix."""
        return set("0aA:-." + self.separator + self.prefix) - {" "}

    def read(self, text: str) -> Mac:
        bare = text
        if self.prefix:
            if not text.lower().startswith(self.prefix.lower()):
                raise MalformedValueError(
                    f"{text!r} doesn't begin with the hardware type {self.prefix}"
                )
            bare = text[len(self.prefix) :]
        return parse_mac(bare)

    def write(self, value: Mac) -> str:
        digits = value.grouped(self.group, self.separator)
        return self.prefix + (digits.upper() if self.upper else digits)


@dataclass(frozen=True)
class Unit:
    """A number of some unit in a lease time."""

    letter: str


@dataclass(frozen=True)
class DurationForm(Form):
    """A lease time by a template such as ``{d} days {h} hours``, and a word for infinite.

    What stands in brackets, as in ``[{d}d][{h}h]``, is left out where its numbers are 0.
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
    def strict(self) -> str:
        """The template, or the word for infinite."""
        written = _duration_expression(self.parts, "[0-9]{1,9}")
        return f"(?:{written}|{re.escape(self.infinite)})" if self.infinite else written

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
            raise MalformedValueError(f"{value} seconds are left that this dialect can't say")
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
