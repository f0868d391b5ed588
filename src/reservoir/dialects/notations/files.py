"""One text for a configuration that is several files: each begins with a line that names it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

FILE_MARK = "# file: "
"""Begins a line that names the file that the lines after it are."""


def in_one_text(files: Iterable[tuple[str, str]]) -> str:
    """Names and texts of files as one text."""
    return "".join(f"{FILE_MARK}{name}\n{text.rstrip()}\n" for name, text in files)


def in_files(text: str) -> Iterator[tuple[str, str]]:
    """Names and texts of the files that one text is; what stands before the first is nobody's."""
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


def file_and_line(text: str, line: int) -> tuple[str, int]:
    """The file in which a line of one text stands, and its number there."""
    name, first = "", 0
    for number, content in enumerate(text.split("\n")[:line], start=1):
        if content.startswith(FILE_MARK):
            name, first = content.removeprefix(FILE_MARK).strip(), number
    return name, line - first
