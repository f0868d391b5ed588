"""Forms of values without blanks: addresses, prefixes, masks, numbers, MAC addresses, words."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from reservoir.core.values.addresses import (
    MalformedValueError,
    Prefix,
    bits_of_mask,
    format_address,
    mask_of,
    parse_address,
    parse_prefix,
)
from reservoir.core.values.clients import Mac, parse_mac, require_identifier
from reservoir.core.values.columns import address_column, address_texts, mac_column, mac_texts
from reservoir.core.values.text_column import TextColumn
from reservoir.dialects.forms.form import Form


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
    texts: Callable[[Sequence[Any]], list[str]] | None = None
    """Writes many at once."""

    def read_many(self, texts: Sequence[str]) -> list[Any]:
        values = None if self.column is None else self.column(texts)
        return super().read_many(texts) if values is None else values

    @property
    def signs(self) -> set[str]:
        """The characters, or those of the template."""
        return set(self.characters + self.template)

    def read(self, text: str) -> Any:
        return self.reader(text)

    def write(self, value: Any) -> str:
        return self.writer(value)

    def write_many(self, values: Sequence[Any]) -> list[str]:
        return super().write_many(values) if self.texts is None else self.texts(values)


def either(yes: str, no: str) -> Plain:
    """A form for yes and no: words for each, apart by blanks, of which the first is written."""
    words = dict.fromkeys(yes.split(), True) | dict.fromkeys(no.split(), False)

    def read(text: str) -> bool:
        if text not in words:
            raise MalformedValueError(f"{text!r} is not one of {', '.join(words)}")
        return words[text]

    def write(value: bool) -> str:
        return next(word for word, meaning in words.items() if meaning == value)

    return Plain(read, write, characters="".join(words))


def _address_list(texts: Sequence[str]) -> list[int] | None:
    addresses = address_column(TextColumn.of(texts))
    return None if addresses is None else addresses.tolist()


_LENGTHS = {str(bits): bits for bits in range(33)}


def _prefix_column(texts: Sequence[str]) -> list[Prefix] | None:
    pieces = "/".join(texts).split("/")
    if len(pieces) != 2 * len(texts) or not all("/" in text for text in texts):
        return None
    lengths = [_LENGTHS.get(bits) for bits in pieces[1::2]]
    addresses = _address_list(pieces[::2])
    if addresses is None or None in lengths:
        return None
    return joined_prefixes(addresses, lengths)  # type: ignore[arg-type]


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
    return bits_of_mask(parse_address(text))


def _read_inverted(text: str) -> int:
    try:
        return bits_of_mask(ALL_ONES ^ parse_address(text))
    except MalformedValueError:
        parse_address(text)  # else it is no address at all
        raise MalformedValueError(
            f"{text!r} is not an inverted mask, like 0.0.0.255: its zeros are not contiguous"
        ) from None


def _number_from(lowest: int, highest: int) -> Plain:
    def read(text: str) -> int:
        if not re.fullmatch("[0-9]{1,9}", text) or not lowest <= int(text) <= highest:
            raise MalformedValueError(f"{text!r} is not a number from {lowest} to {highest}")
        return int(text)

    return Plain(read, str, template="0")


def _read_hex(text: str) -> bytes:
    if not re.fullmatch("(?:[0-9A-Fa-f]{2})+", text):
        raise MalformedValueError(f"{text!r} is not hexadecimal bytes")
    return bytes.fromhex(text)


ADDRESS = Plain(
    parse_address, format_address, template="0.0.0.0", column=_address_list, texts=address_texts
)
PREFIX = Plain(parse_prefix, str, template="0.0.0.0/0", column=_prefix_column)
NUMBER = _number_from(0, 999_999_999)
VLAN = _number_from(1, 4094)
OPTION_CODE = _number_from(1, 254)
_HEX_DIGITS = "0123456789abcdefABCDEF"
HEX = Plain(_read_hex, bytes.hex, _HEX_DIGITS)
IDENTIFIER = Plain(lambda text: require_identifier(_read_hex(text), text), bytes.hex, _HEX_DIGITS)

ALL_ONES = 0xFFFF_FFFF

PREFIX_PARTS: Mapping[str, tuple[Form, Callable[[Prefix], int]]] = {
    "ip": (ADDRESS, lambda prefix: prefix.address),
    "mask": (
        Plain(_read_mask, lambda bits: format_address(mask_of(bits)), template="0.0.0.0"),
        lambda prefix: prefix.bits,
    ),
    "inverted": (
        Plain(
            _read_inverted,
            lambda bits: format_address(ALL_ONES ^ mask_of(bits)),
            template="0.0.0.0",
        ),
        lambda prefix: prefix.bits,
    ),
    "bits": (NUMBER, lambda prefix: prefix.bits),
}
"""Parts in which a prefix may be written: the form, and how to take the part from the value."""

HOST = "host@subnet"
"""The part of an address that counts from the first of its pool's subnet."""

COUNT_FROM_0 = Plain(lambda text: NUMBER.read(text) + 1, lambda n: str(n - 1), template="0")
"""Running numbers of which the first is 0."""


def form_of_part(part: str) -> Form:
    """The form of a part; ``mask@gateway`` is the mask that another field's address has."""
    return NUMBER if part == HOST else PREFIX_PARTS[part.partition("@")[0]][0]


def part_of(part: str, value: Any, subnet: Prefix | None) -> int:
    """A part of a value; ``subnet`` is the pool's.

    Raises:
        MalformedValueError: an address isn't in its pool's subnet, or that isn't known.
    """
    if part != HOST:
        return PREFIX_PARTS[part.partition("@")[0]][1](value)
    if subnet is None or not subnet.span.holds(value):
        raise MalformedValueError(f"{format_address(value)} is not in the pool's subnet")
    return int(value - subnet.network)


def with_other(part: str, value: int, other: Any) -> Any:
    """The value of which a part stands in one place and the rest is another field's.

    Raises:
        MalformedValueError: they make no value together.
    """
    if part == HOST:
        if value >= 1 << (32 - other.bits):
            raise MalformedValueError(f"the subnet {other} has no address number {value}")
        return other.network + value
    return joined_prefix({"ip": other, part.partition("@")[0]: value}).subnet


def joined_prefix(parts: Mapping[str, int]) -> Prefix:
    """A prefix of its parts: the address, and its bits from a mask of either kind or a length.

    Raises:
        MalformedValueError: the length is above 32.
    """
    bits = next((parts[name] for name in ("mask", "inverted", "bits") if name in parts), 32)
    if bits > 32:
        raise MalformedValueError(f"{bits} is not a prefix length from 0 to 32")
    return Prefix(parts["ip"], bits)


def joined_prefixes(addresses: Sequence[int], lengths: Sequence[int]) -> list[Prefix]:
    """Prefixes of their parts, by the column.

    Raises:
        MalformedValueError: a length is above 32.
    """
    if max(lengths, default=0) > 32:
        raise MalformedValueError("a prefix length is from 0 to 32")
    return list(map(Prefix._make, zip(addresses, lengths, strict=True)))


@dataclass(frozen=True)
class GroupedBytes(Form):
    """Bytes in groups of digits, perhaps behind a sign that says so: ``0x01.ab.cd``."""

    group: int = 2
    separator: str = ""
    prefix: str = ""
    upper: bool = False

    @property
    def signs(self) -> set[str]:
        """Digits, separators and the prefix."""
        return set("0aA" + self.separator + self.prefix) - {" "}

    def read(self, text: str) -> bytes:
        bare = text[len(self.prefix) :]
        if text[: len(self.prefix)].lower() != self.prefix.lower():
            raise MalformedValueError(f"{text!r} doesn't start with {self.prefix}")
        groups = bare.split(self.separator) if self.separator else [bare]
        whole = self.separator and any(len(some) != self.group for some in groups[:-1])
        if whole or (self.separator and len(groups[-1]) > self.group):
            raise MalformedValueError(f"{text!r} is not bytes in groups of {self.group} digits")
        return _read_hex("".join(groups))

    def write(self, value: bytes) -> str:
        if not value:
            raise MalformedValueError("an empty value can't be written")
        digits = value.hex().upper() if self.upper else value.hex()
        groups = (digits[at : at + self.group] for at in range(0, len(digits), self.group))
        return self.prefix + self.separator.join(groups)


def of_identifier(form: Form) -> Form:
    """A form for client identifiers (RFC 2132 section 9.14) by one for bytes."""
    return Plain(
        lambda text: require_identifier(form.read(text), text),
        form.write,
        characters="".join(sorted(form.signs | set(_HEX_DIGITS))),
    )


@dataclass(frozen=True)
class MacForm(Form):
    """A MAC address in groups of digits, perhaps behind a hardware type."""

    group: int = 2
    separator: str = ":"
    prefix: str = ""
    upper: bool = False
    hardware: str = ""
    """Digits of a hardware type that are grouped with the address: ``0100.005e.0053.01``."""

    @property
    def characters(self) -> str:  # type: ignore[override]
        """Digits and what may stand between them."""
        said = self.separator + self.prefix
        return "" if " " in said else _HEX_DIGITS + ":-." + said

    def read_many(self, texts: Sequence[str]) -> list[Any]:
        if self.hardware:
            return super().read_many(texts)
        values = mac_column(TextColumn.of(texts), self.prefix)
        return super().read_many(texts) if values is None else list(map(Mac, values.tolist()))

    @property
    def signs(self) -> set[str]:
        """Digits, separators and the prefix."""
        return set("0aA:-." + self.separator + self.prefix) - {" "}

    def read(self, text: str) -> Mac:
        bare = text
        if self.prefix:
            if not text.lower().startswith(self.prefix.lower()):
                raise MalformedValueError(
                    f"{text!r} doesn't start with the hardware type {self.prefix}"
                )
            bare = text[len(self.prefix) :]
        if self.hardware:
            digits = re.sub("[:.-]", "", bare) if not self.separator.isalnum() else bare
            if not digits.lower().startswith(self.hardware):
                raise MalformedValueError(
                    f"{text!r} doesn't start with the hardware type {self.hardware}"
                )
            bare = digits[len(self.hardware) :]
        return parse_mac(bare)

    def write(self, value: Mac) -> str:
        if self.hardware:
            every = f"{self.hardware}{int(value):012x}"
            groups = (every[at : at + self.group] for at in range(0, len(every), self.group))
            digits = self.separator.join(groups)
        else:
            digits = value.grouped(self.group, self.separator)
        return self.prefix + (digits.upper() if self.upper else digits)

    def write_many(self, values: Sequence[Any]) -> list[str]:
        if self.upper or self.hardware or not self.separator.isascii():
            return super().write_many(values)
        texts = mac_texts(values, self.group, self.separator)
        return [self.prefix + text for text in texts] if self.prefix else texts


def beginning_of(form: Form) -> Form:
    """A form for the beginning of a MAC address by one for the whole."""
    if not isinstance(form, MacForm):
        return HEX
    return GroupedBytes(form.group, form.separator, form.prefix, form.upper)
