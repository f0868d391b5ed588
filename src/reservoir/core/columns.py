"""Whole columns of texts at once: addresses and MAC addresses by the million."""

from __future__ import annotations

import socket
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from reservoir.core.clients import is_mac_text

_SEPARATORS = str.maketrans("", "", ":-. ")


def address_column(texts: Sequence[str]) -> NDArray[np.int64] | None:
    """Dotted quads in bulk, shape (n,); None if one is wrong.

    The system's parser is laxer than ours (``010``, ``10.1``), so what it read is written again
    and must be the same text.
    """
    try:
        packed = list(map(socket.inet_aton, texts))
    except (OSError, UnicodeEncodeError, ValueError):
        return None
    if list(map(socket.inet_ntoa, packed)) != list(texts):
        return None
    return np.frombuffer(b"".join(packed), dtype=">u4").astype(np.int64)


def mac_column(texts: Sequence[str]) -> NDArray[np.int64] | None:
    """MAC addresses in any notation in bulk, shape (n,); None if one is wrong."""
    if not all(map(is_mac_text, texts)):
        return None
    octets = bytes.fromhex("".join(texts).translate(_SEPARATORS))
    grouped = np.frombuffer(octets, dtype=np.uint8).reshape(-1, 6)
    numbers = np.zeros((len(grouped), 8), dtype=np.uint8)
    numbers[:, 2:] = grouped
    return numbers.view(">i8").ravel().astype(np.int64)
