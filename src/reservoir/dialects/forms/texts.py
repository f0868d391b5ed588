"""Forms of free text, of bytes written as text, and of lists."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.forms.form import TOKEN, Form

LONGEST_TEXT = 1_000
"""Characters of a text that a plan can have as a key (YAML 1.2 section 7.4.2: 1,024)."""


def _visible(text: str) -> str:
    """The text, if a plan can have it as a name."""
    if not text.isprintable() or not text.strip():
        raise MalformedValueError(f"{text!r} has invisible characters")
    if len(text) > LONGEST_TEXT:
        raise MalformedValueError(f"{text[:20]!r}… has {len(text):,} characters")
    return text


def _is_any_long(texts: Sequence[str]) -> bool:
    return max(map(len, texts), default=0) > LONGEST_TEXT


@dataclass(frozen=True)
class Text(Form):
    """Free text: bare where that is safe, else quoted as the dialect does it, else refused."""

    quote: str = ""
    """The quotation sign, or nothing where the dialect has none."""
    doubled: bool = False
    """A sign inside is doubled; otherwise a backslash goes before it."""
    bare: str = "A-Za-z0-9._-"
    """The characters that need no quotation, as in a regular expression's set."""
    always: bool = False
    """It is quoted whatever it is."""
    avoid: str = ""
    """A regular expression for what means something wherever it stands outside of quotes."""
    reserved: set[str] = field(default_factory=set, compare=False)
    """Words of the dialect, which are quoted when they are meant as a name, if it can quote."""

    @property
    def signs(self) -> set[str]:
        """The quotation sign."""
        return set(self.quote)

    @cached_property
    def _is_bare(self) -> Callable[[str], object]:
        unless = f"(?!.*?(?:{self.avoid}))" if self.avoid else ""
        return re.compile(f"{unless}[{self.bare}]+").fullmatch

    @cached_property
    def quoted(self) -> str:  # type: ignore[override]
        """The sign, what may be inside, the sign."""
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

    def read_many(self, texts: Sequence[str]) -> list[Any]:
        together = "".join(texts)
        is_quoted = bool(self.quote) and self.quote in together
        if is_quoted or not self._is_bare(together) or _is_any_long(texts):
            return super().read_many(texts)
        return list(texts)  # nothing in them has to be undone

    def read(self, text: str) -> str:
        if not self.quote or not text.startswith(self.quote):
            return _visible(text)
        inside = text[len(self.quote) : -len(self.quote)]
        if self.doubled:
            return _visible(inside.replace(self.quote * 2, self.quote))
        return _visible(re.sub(r"\\(.)", r"\1", inside))

    def write_many(self, values: Sequence[str]) -> list[str]:
        together = "".join(values)
        is_plain = together.isprintable() and " " not in together and "" not in values
        is_plain &= not (self.avoid and any(map(re.compile(self.avoid).search, values)))
        may_be_bare = is_plain and self._is_bare(together) and self.reserved.isdisjoint(values)
        return list(values) if may_be_bare and not self.always else super().write_many(values)

    def write(self, value: str) -> str:
        _visible(value)
        if self._is_bare(value) and not (self.quote and (self.always or value in self.reserved)):
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
    sign: str = ""
    """What an escape begins with."""
    unescape: Callable[[str], str] = str
    escape: Callable[[str], str] = str

    @property
    def signs(self) -> set[str]:
        """What can't be bare in it."""
        return set(self.forbidden)

    def read_many(self, texts: Sequence[str]) -> list[Any]:
        together = "".join(texts)
        is_plain = self.sign not in together and together.isprintable()
        if not is_plain or not all(map(str.strip, texts)) or _is_any_long(texts):
            return super().read_many(texts)
        return list(texts)  # nothing in them has to be undone

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


_BARE = re.compile(r"\[\^( \\t\\n[^\]]*)\]\+\?")
"""The part of a pattern that matches as little as will do of all but a few characters."""


def _without(forbidden: str, sign: str) -> str:
    """A pattern like that, which doesn't match a sign either."""
    if len(sign) > 1:
        return f"(?:(?!{re.escape(sign)})[^{forbidden}])+?"
    return f"[^{forbidden}{re.escape(sign)}]+?"


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
        """The item between signs, which it doesn't have itself."""
        return f'"{_BARE.sub(lambda bare: _without(bare[1], chr(34)), self.item.pattern)}"'

    quoted = r'"(?:[^"\\]|\\.)*"'

    def read(self, text: str) -> Any:
        if not re.fullmatch(self.quoted, text):
            raise MalformedValueError(f"{text!r} is not in quotation marks")
        return self.item.read(text[1:-1])

    def write(self, value: Any) -> str:
        return f'"{self.item.write(value)}"'


@dataclass(frozen=True)
class Rest(Form):
    """Text to the end of the line, as it is."""

    pattern: str = r"[^ \t\n].*?"
    avoid: str = ""
    """A regular expression for what ends a statement or begins a comment."""

    def read(self, text: str) -> str:
        return _visible(text)

    def write(self, value: str) -> str:
        if _visible(value) != value.strip(" \t") or (self.avoid and re.search(self.avoid, value)):
            raise MalformedValueError(f"{value!r} can't be written at the end of a line")
        return value


@dataclass(frozen=True)
class ListOf(Form):
    """Several values in one place, apart by a separator."""

    item: Form
    separator: str

    @cached_property
    def pattern(self) -> str:  # type: ignore[override]
        """Items and separators; blanks around a separator are free.

        No separator is in a bare item: else a line that doesn't match could be cut in ways without
        number.
        """
        sign = self.separator.strip()
        between = f"[ \\t]*{re.escape(sign)}[ \\t]*" if sign else "[ \\t]+"
        item = _BARE.sub(lambda bare: _without(bare[1], sign), self.item.pattern)
        return f"{item}(?:{between}{item})*?"

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
