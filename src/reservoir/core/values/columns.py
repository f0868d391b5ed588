"""Whole columns of texts at once: addresses and MAC addresses by the million."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.clients import is_mac_text, parse_mac
from reservoir.core.values.text_column import TextColumn

NIBBLES = np.full(256, 255, dtype=np.uint8)
"""The value of each hexadecimal digit; 255 for what is none."""
for _value, _digit in enumerate("0123456789abcdef"):
    NIBBLES[[ord(_digit), ord(_digit.upper())]] = _value


LONGEST_ADDRESS = len("255.255.255.255")


def address_column(texts: TextColumn) -> NDArray[np.int64] | None:
    """Dotted quads in bulk, shape (n,); None if one is not as ``parse_address`` wants it."""
    count = len(texts)
    if not count:
        return np.empty(0, dtype=np.int64)
    if int(texts.lengths.max()) > LONGEST_ADDRESS:
        return None
    characters = texts.padded(16).reshape(-1)
    dots = np.flatnonzero(characters == ord("."))
    rows = np.arange(0, 16 * count, 16)[:, None]
    if len(dots) != 3 * count or (dots.reshape(-1, 3) & -16 != rows).any():
        return None
    edges = dots.reshape(-1, 3)
    firsts = np.concatenate([rows, edges + 1], axis=1)
    sizes = np.concatenate([edges, rows + texts.lengths[:, None]], axis=1) - firsts
    if ((sizes < 1) | (sizes > 3)).any():
        return None
    octets = _octets(characters, firsts, sizes)
    return None if octets is None else octets.view(">u4")[:, 0].astype(np.int64)


def _octets(
    characters: NDArray[np.uint8], firsts: NDArray[np.int64], sizes: NDArray[np.int64]
) -> NDArray[np.uint8] | None:
    """Numbers of one to three digits, up to 255, without leading zeros; None if one is not."""
    every = np.ndarray(len(characters) - 3, dtype="<u4", buffer=characters, strides=(1,))
    written = every[firsts]
    missing = (3 - sizes).astype(np.uint32) * np.uint32(8)
    digits = (written ^ np.uint32(0x303030)) << missing & np.uint32(0xFFFFFF)
    if ((digits | digits + np.uint32(0x767676)) & np.uint32(0x808080)).any():
        return None  # a byte above 9 reaches the highest bit with 0x76 added
    leading = (sizes > 1) & (written & np.uint32(0xFF) == ord("0"))
    octets = (digits & 15) * 100 + (digits >> 8 & 15) * 10 + (digits >> 16)
    return None if (leading | (octets > 255)).any() else octets.astype(np.uint8)


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


def mac_column(texts: TextColumn, prefix: str = "") -> NDArray[np.int64] | None:
    """MAC addresses in bulk, in any notation, shape (n,); None if one is none.

    Args:
        texts: The addresses, each behind the prefix.
        prefix: The same before all of them.
    """
    behind = texts.without(prefix)
    if behind is None:
        return None
    found = np.zeros(len(behind), dtype=np.int64)
    for length in np.flatnonzero(np.bincount(behind.lengths)).tolist():
        rows = np.flatnonzero(behind.lengths == length)
        same_length = behind.rows(rows)
        some = _alike(same_length)
        if some is None:
            try:
                some = np.array([parse_mac(text) for text in same_length], dtype=np.int64)
            except MalformedValueError:
                return None
        found[rows] = some
    return found


def _alike(texts: TextColumn) -> NDArray[np.int64] | None:
    """MAC addresses of one length, all written as the first is; None if one is not."""
    if not is_mac_text(texts[0]):
        return None
    written = texts.table()
    is_digit = NIBBLES[written[0]] < 16
    if (written[:, ~is_digit] != written[0, ~is_digit]).any():
        return None
    nibbles = NIBBLES[written[:, is_digit]]
    if (nibbles > 15).any():
        return None
    octets = np.zeros((len(texts), 8), dtype=np.uint8)
    octets[:, 2:] = nibbles[:, 0::2] << 4 | nibbles[:, 1::2]
    return octets.view(">i8")[:, 0].astype(np.int64)
