"""Reads text files: what isn't text is named calmly."""

from __future__ import annotations

import codecs
import hashlib
import sys
from collections.abc import Iterable
from pathlib import Path
from stat import S_ISREG
from typing import BinaryIO

from reservoir.core.problems import InputError, Place, Problem

LARGEST_BYTES = 512 * 1024 * 1024
"""Larger inputs are refused before they are read."""

LONGEST_LINE = 16 * 1024 * 1024
"""Bytes in a line; whatever looks at a line as a whole may need a hundred times as many."""

STANDARD_INPUT = "-"

_read: set[tuple[int, int]] = set()
"""The files that have been read, by device and inode."""

_streams: dict[tuple[str, int, int], bytes] = {}
"""What pipes gave, by path, device and inode: they can be read once only."""


def read_text(file: str) -> str:
    """The text of a file, or of standard input for ``-``. A byte-order mark is dropped.

    Raises:
        InputError: missing, a folder, unreadable, too large, binary, or not UTF-8.
    """
    return read_utf8(file).decode()


def read_utf8(file: str, most: int = LARGEST_BYTES) -> bytes:
    """The bytes of a text in UTF-8, up to so many; for texts too long to be had as ``str``.

    Raises:
        InputError: as for :func:`read_text`.
    """
    data = _read_bytes(file, most).removeprefix(codecs.BOM_UTF8)
    if b"\0" in data:
        line = data.count(b"\n", 0, data.index(b"\0")) + 1
        raise _unusable(file, "the file is binary, not text", line)
    _require_lines(data, file)
    try:
        if not data.isascii():
            data.decode()
        return data
    except UnicodeDecodeError as error:
        before = data[: error.start]
        column = error.start - before.rfind(b"\n")
        raise _unusable(
            file,
            f"the text is not UTF-8: byte 0x{data[error.start]:02x} can't be read; "
            "save the file as UTF-8",
            before.count(b"\n") + 1,
            column,
        ) from None


def _require_lines(data: bytes, file: str) -> None:
    """Refuse a text with a line that is far too long.

    Raises:
        InputError: there is one.
    """
    begin = 0
    while begin + LONGEST_LINE < len(data):
        end = data.rfind(b"\n", begin, begin + LONGEST_LINE + 1)
        if end < 0:
            line = data.count(b"\n", 0, begin) + 1
            raise _unusable(file, f"the line is longer than {LONGEST_LINE // 2**20} MiB", line)
        begin = end + 1


def digest_of(files: Iterable[str]) -> str:
    """The SHA-256 of files, one after the other, in hexadecimal.

    Raises:
        InputError: one can't be read any more.
    """
    found = hashlib.sha256()
    for file in files:
        data = read_utf8(file)
        found.update(len(data).to_bytes(8, "big") + data)
    return found.hexdigest()


def read_files(folder: str) -> list[tuple[str, str]]:
    """Names and texts of a folder's files, sorted; hidden ones left out.

    After a file come those of a folder of its name with ``.d`` behind.

    Raises:
        InputError: as for :func:`read_text`; or there are none.
    """
    paths = sorted(path for path in Path(folder).iterdir() if path.is_file())
    paths = [
        file
        for path in paths
        for more in [path.with_name(f"{path.name}.d")]
        for file in (path, *(sorted(filter(Path.is_file, more.iterdir())) if more.is_dir() else ()))
    ]
    found = [
        (str(p.relative_to(folder)), read_text(str(p))) for p in paths if not p.name.startswith(".")
    ]
    if not found:
        raise _unusable(folder, "this folder has no files")
    return found


def stamp_of(file: str) -> tuple[int, ...] | None:
    """What tells whether a file is still the same, without reading it; None if it can't be told."""
    try:
        status = Path(file).stat()
    except OSError:
        return None
    return status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns


def was_read(file: Path) -> bool:
    """Whether a file's text has been read, by whatever name."""
    try:
        status = file.stat()
    except OSError:
        return False
    return (status.st_dev, status.st_ino) in _read


def beginning(file: str, most: int) -> bytes:
    """The first bytes of a file, to see what it is; none if it can't be read.

    What a pipe gives is kept for whoever reads it next.
    """
    try:
        if Path(file).is_file():
            with Path(file).open("rb") as stream:
                return stream.read(most)
        return b"" if Path(file).is_dir() else _read_bytes(file, LARGEST_BYTES)[:most]
    except (OSError, InputError):
        return b""


def _read_bytes(file: str, most: int) -> bytes:
    try:
        if file == STANDARD_INPUT:
            return _drained(sys.stdin.buffer, file, most)
        path = Path(file)
        if path.is_dir():
            raise _unusable(file, "this is a folder; give a file in it")
        status = path.stat()
        if status.st_size > most:
            raise _too_large(file, most)
        if S_ISREG(status.st_mode):
            _read.add((status.st_dev, status.st_ino))
            with path.open("rb") as stream:
                return _drained(stream, file, most)
        key = file, status.st_dev, status.st_ino
        if key not in _streams:
            with path.open("rb") as stream:
                _streams[key] = _drained(stream, file, most)
        return _streams[key]
    except FileNotFoundError:
        raise _unusable(file, "there is no such file") from None
    except OSError as error:
        raise _unusable(file, f"the file can't be read: {error.strerror}") from None


def _drained(stream: BinaryIO, file: str, most: int) -> bytes:
    """What a stream gives, to its end or to a byte that no text has: it may be endless.

    Raises:
        InputError: it gives more than ``most`` bytes.
    """
    parts: list[bytes] = []
    size = 0
    while part := stream.read(1 << 20):
        parts.append(part)
        size += len(part)
        if size > most:
            raise _too_large(file, most)
        if b"\0" in part:
            break
    return b"".join(parts)


def _too_large(file: str, most: int) -> InputError:
    return _unusable(file, f"the file is larger than {most // 2**20} MiB")


def _unusable(file: str, message: str, line: int = 1, column: int = 1) -> InputError:
    return InputError([Problem(Place(file, line, column), message)])


def make_folder(path: Path) -> None:
    """Make a folder and those above it, where they are missing.

    Raises:
        InputError: it can't be made.
    """
    try:
        path.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise _unusable(str(path), f"the folder can't be created: {error.strerror}") from None
