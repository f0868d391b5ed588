"""Whole columns of texts at once: addresses and MAC addresses by the million."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from reservoir.core.clients import is_mac_text

_DOT, _ZERO = b".0"

_SEPARATORS = str.maketrans("", "", ":-. ")

NIBBLES = np.full(256, 255, dtype=np.uint8)
"""The value of each hexadecimal digit; 255 for what is none."""
for _value, _digit in enumerate("0123456789abcdef"):
    NIBBLES[[ord(_digit), ord(_digit.upper())]] = _value


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


_OCTETS = [str(octet) for octet in range(256)]


def address_texts(addresses: Sequence[int]) -> list[str]:
    """Dotted quads of many addresses."""
    octets = _OCTETS
    fronts = {
        front: f"{front >> 8}.{front & 255}." for front in {address >> 16 for address in addresses}
    }
    return [
        f"{fronts[address >> 16]}{octets[address >> 8 & 255]}.{octets[address & 255]}"
        for address in addresses
    ]


def mac_texts(macs: Sequence[int], size: int, separator: str) -> list[str]:
    """MAC addresses in groups of ``size`` digits, lower case."""
    numbers = np.array(macs, dtype=np.int64)
    shifts = np.arange(44, -1, -4, dtype=np.int64)
    digits = np.frombuffer(b"0123456789abcdef", np.uint8)[numbers[:, None] >> shifts & 15]
    sign = np.frombuffer(separator.encode("ascii"), np.uint8)
    columns = []
    for start in range(0, 12, size):
        if start:
            columns.append(np.broadcast_to(sign, (len(numbers), len(sign))))
        columns.append(digits[:, start : start + size])
    table = np.concatenate(columns, axis=1)
    together, length = table.tobytes().decode("ascii"), table.shape[1]
    return [together[at : at + length] for at in range(0, len(together), length)]


def mac_column(texts: Sequence[str], prefix: str = "") -> NDArray[np.int64] | None:
    """MAC addresses in bulk, in any notation, shape (n,); None if one is none.

    Args:
        texts: The addresses, each behind the prefix.
        prefix: The same before all of them.
    """
    if not texts:
        return np.empty(0, dtype=np.int64)
    first = texts[0][len(prefix) :] if texts[0].startswith(prefix) else ""
    if is_mac_text(first) and len(set(map(len, texts))) == 1:
        numbers = _alike(texts, len(prefix))
        if numbers is not None:
            return numbers
    if prefix:
        if not all(text.startswith(prefix) for text in texts):
            return None
        texts = [text[len(prefix) :] for text in texts]
    if not all(map(is_mac_text, texts)):
        return None
    return np.array([int(text.translate(_SEPARATORS), 16) for text in texts], dtype=np.int64)


def _alike(texts: Sequence[str], skip: int) -> NDArray[np.int64] | None:
    """MAC addresses behind so many characters, all written as the first is; None if one is not."""
    try:
        table = np.frombuffer("".join(texts).encode("ascii"), dtype=np.uint8)
    except UnicodeEncodeError:
        return None
    table = table.reshape(len(texts), -1)
    if (table[:, :skip] != table[0, :skip]).any():
        return None
    table = table[:, skip:]
    nibbles = NIBBLES[table]
    is_digit = nibbles[0] < 16
    digits = nibbles[:, is_digit]
    if (digits > 15).any() or (table[:, ~is_digit] != table[0, ~is_digit]).any():
        return None
    weights = np.int64(1) << np.arange(44, -1, -4, dtype=np.int64)
    return np.asarray(digits.astype(np.int64) @ weights, dtype=np.int64)
