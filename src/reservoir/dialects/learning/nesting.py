"""Guesses what is inside what: by signs, words, indentation, headings, or paths."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from itertools import pairwise

from reservoir.dialects.learning.lines import Line, Lines, quoted
from reservoir.dialects.learning.meanings import words_of

_SIGNED = re.compile(r"(?P<before>[^\w\s\"']+ ?)(?=[\w\"'])(?P<title>.*?)(?P<after> ?[^\w\s\"'/]+)")
_MIRRORED = str.maketrans("[](){}<>", "][)(}{><")

_MOSTLY = 0.6
"""The share of lines that have to be so for the whole text to be."""
_OFTEN = 0.4

Words = Mapping[str, str]
"""The words of the header that are known already."""


def has_braces(lines: Lines) -> bool:
    """Whether braces stand around blocks."""
    texts = [line.text for line in lines.plain]
    opens = any(re.search(r"\{(?=[^{}]*$|.*\})", text) for text in texts)
    closes = any(text.startswith("}") or text.endswith("}") for text in texts)
    return opens and closes and lines.text.count("{") == lines.text.count("}")


def block(lines: Lines, words: Words) -> str:
    """The value of ``block``; empty if there are none."""
    if has_braces(lines):
        return f'"{{" "}}" indent {lines.indent or 2}'
    closed = _closed_by_words(lines)
    if closed:
        return closed
    has_dash = any(line.text == "-" or line.text.startswith("- ") for line in lines.plain)
    if not (lines.indent or has_dash) or _is_only_under_headings(lines):
        return ""
    return f"indent {lines.indent or 2}" + (' dash "-"' if has_dash else "")


def _closed_by_words(lines: Lines) -> str:
    """Blocks that words open and close; a closing word stands as deep as what it closes."""
    openers = _with_what_follows(lines.plain)
    opened = [(line, words) for line, end in openers if (words := _closing(line, end))]
    closing = Counter(words for _, words in opened)
    known = [words for words, count in closing.items() if count > 1 or len(openers) == 1]
    if known and sum(closing[words] for words in known) >= len(openers):
        return _opening_and_closing(lines, opened)
    return "" if lines.indent else _closed_without_indent(lines.plain)


def _with_what_follows(lines: Sequence[Line]) -> list[tuple[Line, Line | None]]:
    """The lines before deeper ones, each with the line behind these if it is as deep."""
    found = []
    for at, line in enumerate(lines[:-1]):
        if lines[at + 1].indent > line.indent:
            end = next((other for other in lines[at + 1 :] if other.indent <= line.indent), None)
            found.append((line, end if end is not None and end.indent == line.indent else None))
    return found


def _closing(line: Line, end: Line | None) -> str:
    """The words by which a line may close a block; empty if it doesn't look like it."""
    if end is None:
        return ""
    before, _, last = end.text.rpartition(" ")
    if before and last == words_of(line.text)[-1] and end.first != line.first:
        return f"{before} *"
    is_plain = re.fullmatch(r"[\w!.-]+(?: \w+)?", end.text) is not None
    return end.text if is_plain and not end.is_value else ""


def _opening_and_closing(lines: Lines, opened: Sequence[tuple[Line, str]]) -> str:
    """The words of lines that open blocks, with those that close each."""
    ends = {end for _, end in opened}
    if all(line.text.endswith(":") for line, _ in opened) and len(ends) == 1:
        return f'opens "*:" closes {quoted(ends.pop())} indent {lines.indent}'
    closes = dict[str, str]()
    for line, end in opened:
        closes.setdefault(_opening(line, end, lines.plain, opened), end)
    said = list(closes.values())
    said = said[:1] if len(set(said)) == 1 else said
    return (
        f"opens {' '.join(map(quoted, closes))} closes {' '.join(map(quoted, said))} "
        f"indent {lines.indent}"
    )


def _opening(
    line: Line, end: str, every: Sequence[Line], opened: Sequence[tuple[Line, str]]
) -> str:
    """The words with which a line opens a block, as a header has them."""
    before = line.text.rpartition(" ")[0]
    if not before:
        return line.text
    if "*" in end:  # what stands for the star is said again
        return f"{before} *"
    alike = [other for other in every if other.first == line.first]
    begins = {other.text.rpartition(" ")[0] for other, _ in opened if other.first == line.first}
    is_longer = len(words_of(before)) > 1 and any(len(words_of(x.text)) != 2 for x in alike)
    return f"{before if is_longer and len(begins) == 1 else line.first} *"


def _closed_without_indent(lines: Sequence[Line]) -> str:
    """Blocks of words in a text without indentation, told by how often and in which order."""
    texts = Counter(line.text for line in lines if not line.is_value)
    ends = [text for text, count in texts.items() if count > 1 and " " not in text]
    for end in ends:
        firsts = Counter(line.first for line in lines if line.text != end)
        for first in [word for word, count in firsts.items() if count == texts[end]]:
            if _is_balanced(lines, first, end):
                return f"opens {quoted(f'{first} *')} closes {quoted(end)} indent 2"
    return ""


def _is_balanced(lines: Sequence[Line], first: str, end: str) -> bool:
    depth = 0
    for line in lines:
        depth += (line.first == first) - (line.text == end)
        if depth < 0:
            return False
    return not depth


def _is_only_under_headings(lines: Lines) -> bool:
    """Whether indentation only says again what headings say."""
    titles = {line.text for line in lines.plain if _around_title(line)}
    return bool(titles) and len({x.indent for x in lines.plain if x.text not in titles}) == 1


def _around_title(line: Line) -> str:
    """The signs around a title, with a star for it: ``[*]``, ``== * ==``; empty if it is none."""
    found = _SIGNED.fullmatch(line.text)
    if found is None or found["before"].strip() in found["title"]:
        return ""
    is_mirrored = found["after"] == found["before"][::-1].translate(_MIRRORED)
    return f"{found['before']}*{found['after']}" if is_mirrored else ""


def heading(lines: Lines, words: Words) -> str:
    """The value of ``heading``; empty if there are none."""
    if has_braces(lines):
        return ""
    signed = [around for line in lines.plain if (around := _around_title(line))]
    underlined = [
        above.text
        for above, below in pairwise(lines.without_remarks)
        if re.fullmatch("[=~^-]{3,}", below.text) and not above.is_value
    ]
    titles = signed or underlined or _over_tables(lines, words)
    if not titles and not lines.indent and "block" not in words:
        titles = _worded(lines.plain)
    return " ".join(map(quoted, dict.fromkeys(titles)))


def _over_tables(lines: Lines, words: Words) -> list[str]:
    """Lines that end with a colon and stand over the names of columns."""
    if lines.indent or "block" in words:
        return []
    return [
        above.text
        for above, below in pairwise(lines.plain)
        if above.text.endswith(":") and not (above.is_value or below.is_value)
    ]


def _worded(lines: Sequence[Line]) -> list[str]:
    """Lines without a value that stand before others: ``under x``, or titles in capitals."""
    for word in sorted({line.first for line in lines if not re.search("[=:]", line.text)}):
        its = [line for line in lines if line.first == word]
        is_short = all(2 <= len(words_of(line.text)) <= 4 and not line.is_value for line in its)
        if is_short and len({line.text for line in its}) > 1 and _hold_others(its, lines):
            return [f"{word} *"]
    titles = (line for line in lines if re.fullmatch(r"[A-Z][A-Z0-9 _/-]+", line.text))
    return [line.text for line in titles if not line.is_value]


def _hold_others(lines: Sequence[Line], every: Sequence[Line]) -> bool:
    """Whether something else stands behind each of some lines."""
    behind = dict(pairwise(every))
    return all(line in behind and behind[line] not in lines for line in lines)


def path(lines: Lines, words: Words) -> str:
    """The value of ``path``; empty if statements don't say the whole way."""
    if {"block", "table", "pieces"} & words.keys():
        return ""
    texts = [line.text for line in lines.plain if line.is_value]
    if not texts:
        return ""
    signs: tuple[str, ...] = (" :: ", " > ", " / ", "::", " -> ")
    if "assign" in words:
        mark = words["assign"].strip('"').strip()
        texts = [text.partition(mark)[0].strip() for text in texts]
        signs = (".", "/", "_", ":")
    for sign in signs:
        if sum(sign in text for text in texts) > _MOSTLY * len(texts):
            return quoted(sign)
    if "assign" in words or "heading" in words:
        return ""
    begins = Counter(tuple(words_of(text)[:3]) for text in texts)
    shared = sum(count for begin, count in begins.items() if count > 1 and len(begin) == 3)
    return "blanks" if shared >= _OFTEN * len(texts) else ""
