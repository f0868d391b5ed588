"""Whole columns of texts at once: addresses and MAC addresses by the million."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from reservoir.core.clients import is_mac_text

_DOT, _ZERO = b".0"

_SEPARATORS = str.maketrans("", "", ":-. ")

_NIBBLES = np.full(256, 255, dtype=np.uint8)
"""The value of each hexadecimal digit; 255 for what is none."""
for _value, _digit in enumerate("0123456789abcdef"):
    _NIBBLES[[ord(_digit), ord(_digit.upper())]] = _value


def address_column(texts: Sequence[str]) -> NDArray[np.int64] | None:
    """Dotted quads in bulk, shape (n,); None if one is not as ``parse_address`` wants it."""
    if not texts:
        return np.empty(0, dtype=np.int64)
    try:
        octets = np.frombuffer((".".join(texts) + ".").encode("ascii"), dtype=np.uint8)
    except UnicodeEncodeError:
        return None
    lengths = np.fromiter(map(len, texts), dtype=np.int64, count=len(texts))
    dots = np.flatnonzero(octets == _DOT)
    if len(dots) != 4 * len(texts) or (dots[3::4] != np.cumsum(lengths + 1) - 1).any():
        return None
    sizes = np.diff(dots, prepend=-1) - 1
    digits = octets.astype(np.int64) - _ZERO
    plain = digits[octets != _DOT]
    if ((sizes < 1) | (sizes > 3)).any() or ((plain < 0) | (plain > 9)).any():
        return None
    tens, hundreds = sizes > 1, sizes > 2
    leading = digits[dots - sizes]
    values = digits[dots - 1]
    values = values + np.where(tens, digits[dots - 2], 0) * 10
    values = values + np.where(hundreds, digits[dots - 3], 0) * 100
    if (values > 255).any() or (tens & (leading == 0)).any():
        return None
    weights = np.array([1 << 24, 1 << 16, 1 << 8, 1], dtype=np.int64)
    return np.asarray(values.reshape(-1, 4) @ weights, dtype=np.int64)


def mac_column(texts: Sequence[str]) -> NDArray[np.int64] | None:
    """MAC addresses in bulk, in any notation, shape (n,); None if one is none."""
    if len(set(map(len, texts))) == 1 and is_mac_text(texts[0]):
        numbers = _alike(texts)
        if numbers is not None:
            return numbers
    if not all(map(is_mac_text, texts)):
        return None
    return np.array([int(text.translate(_SEPARATORS), 16) for text in texts], dtype=np.int64)


def _alike(texts: Sequence[str]) -> NDArray[np.int64] | None:
    """MAC addresses that are all written as the first is; None if one is not."""
    try:
        table = np.frombuffer("".join(texts).encode("ascii"), dtype=np.uint8)
    except UnicodeEncodeError:
        return None
    table = table.reshape(len(texts), -1)
    nibbles = _NIBBLES[table]
    is_digit = nibbles[0] < 16
    digits = nibbles[:, is_digit]
    if (digits > 15).any() or (table[:, ~is_digit] != table[0, ~is_digit]).any():
        return None
    weights = np.int64(1) << np.arange(44, -1, -4, dtype=np.int64)
    return np.asarray(digits.astype(np.int64) @ weights, dtype=np.int64)
