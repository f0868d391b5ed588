"""Packet captures: frames with their times, in the classic format that every analyser opens."""

from __future__ import annotations

from collections.abc import Iterable
from io import BytesIO
from pathlib import Path

import dpkt

from reservoir.files.changing import write_whole


def save_capture(file: str, frames: Iterable[tuple[float, bytes]]) -> None:
    """Save Ethernet frames, each with its time in seconds.

    Raises:
        InputError: the file can't be written.
    """
    stream = BytesIO()
    writer = dpkt.pcap.Writer(stream)
    for at, frame in frames:
        writer.writepkt(frame, at)
    write_whole(Path(file), stream.getvalue())
