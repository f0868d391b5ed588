"""One text for a configuration that is several files: each begins with a line that names it."""

from __future__ import annotations

import re
from bisect import bisect
from collections.abc import Iterable, Iterator

FILE_MARK = "# file: "
"""Begins a line that names the file that the lines after it are."""


def in_one_text(files: Iterable[tuple[str, str]]) -> str:
    """Names and texts of files as one text, in which every file ends with a line end."""
    return "".join(
        f"{FILE_MARK}{name}\n{text}" if text.endswith("\n") else f"{FILE_MARK}{name}\n{text}\n"
        for name, text in files
    )


def in_files(text: str) -> Iterator[tuple[str, str]]:
    """Names and texts of the files that one text is; what stands before the first is nobody's.

    Empty lines around a text are none of it: they tell one file from the next.
    """
    name, lines = "", list[str]()
    for line in text.split("\n"):
        if line.startswith(FILE_MARK):
            if name:
                yield name, _text(lines)
            name, lines = line.removeprefix(FILE_MARK).strip(), []
        else:
            lines.append(line)
    if name:
        yield name, _text(lines)


def _text(lines: Iterable[str]) -> str:
    return "\n".join(lines).strip("\n") + "\n"


class FileMarks:
    """Tells where the lines of one text stand, if it is several files."""

    def __init__(self, text: str) -> None:
        """Find the lines that name a file."""
        self._names, self._lines = [""], [0]
        line, since = 1, 0
        for mark in re.finditer(f"^{FILE_MARK}(.*)", text, re.MULTILINE):
            line += text.count("\n", since, mark.start())
            since = mark.start()
            self._names.append(mark[1].strip())
            self._lines.append(line)

    def file_and_line(self, line: int) -> tuple[str, int]:
        """The file in which a line of the text stands, and its number there."""
        at = bisect(self._lines, line) - 1
        return self._names[at], line - self._lines[at]
