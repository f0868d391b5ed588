"""Guesses what stands between and around the words of a sample: keys and values, cells, remarks."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from itertools import pairwise

from reservoir.dialects.learning.lines import TICK, Lines, quoted
from reservoir.dialects.learning.nesting import has_braces

_PIECE = re.compile(r"(?<!\S)[A-Za-z_][\w.-]*=(?=\S)")
_KEY = re.compile(r"(?:-[ \t]+)?[A-Za-z_][^\"'=:{}]*?([ \t]*(?<![=:])[=:](?![=:])[ \t]*)(?=\S)")
_MAC = re.compile(r"[0-9A-Fa-f]{2}:[0-9A-Fa-f]{2}:")
_MOSTLY = 0.6
_OFTEN = 0.4

Words = Mapping[str, str]
"""The words of the header that are known already."""


def statement(lines: Lines, words: Words) -> str:
    """The value of ``statement``; empty if the end of a line ends one."""
    texts = [x.text for x in lines.plain if not re.match(r".*[{}][ \t]*$|[{}]", x.text)]
    ended = sum(text.endswith(";") for text in texts)
    return '";"' if texts and ended >= _MOSTLY * len(texts) else ""


def comment(lines: Lines, words: Words) -> str:
    """The value of ``comment``; empty if there are no remarks."""
    texts = [line.text for line in lines.plain]
    signs = [
        quoted(sign) + ("" if any(_remark_behind(sign, text) for text in texts) else " whole-line")
        for sign in lines.remarks
    ]
    for sign in ("#", "//", "!", "--"):
        found = [remark for text in texts if (remark := _remark_behind(sign, text))]
        if found and sign not in lines.remarks and not any(map(lines.has_value, found)):
            signs.append(quoted(sign))
    if re.search(r"^[ \t]*/\*", lines.text, re.MULTILINE) and "*/" in lines.text:
        signs.append('"/*" to "*/"')
    return " ".join(signs)


def _remark_behind(sign: str, text: str) -> str:
    """The remark that begins with a sign behind a statement; empty if there is none."""
    found = re.search(rf"(?<=[ \t;}}]){re.escape(sign)}[ \t]+\w.*$", text)
    return found[0] if found else ""


def table(lines: Lines, words: Words) -> str:
    """The value of ``table``; empty if there are none."""
    if has_braces(lines):
        return ""
    raw = [line for line in lines.text.split("\n") if line.strip()]
    for sign, value in (("|", '"|"'), ("\t", "tab"), (",", '","'), (";", '";"')):
        counts = [line.count(sign) for line in raw]
        alike = sum(a == b >= 1 for a, b in pairwise(counts))

        def cells(line: str, sign: str = sign) -> Sequence[str]:
            return line.split(sign)

        if alike > 2 and _has_names(lines, cells):
            return value
    is_by_blanks = not lines.indent and _has_names(lines, lambda line: re.split(" {2,}", line))
    return "blanks" if is_by_blanks else ""


def _has_names(lines: Lines, cells: Callable[[str], Sequence[str]]) -> bool:
    """Whether a line of names stands above one of values."""
    for above, below in pairwise(lines.plain):
        names = [name for cell in cells(above.text) if (name := cell.strip())]
        are_names = all(re.fullmatch(r"[A-Za-z][\w ./()-]*", name) for name in names)
        is_above = len(names) > 1 and are_names and not above.is_value
        if is_above and below.is_value and len(cells(below.text)) > 1:
            return True
    return False


def assign(lines: Lines, words: Words) -> str:
    """The value of ``assign``; empty if no sign stands between keys and values."""
    if words.get("table", '"|"') != '"|"':
        return ""
    said = [x.text.rstrip("{; \t") for x in lines.plain if x.is_value]
    keys = (_KEY.match(text) for text in said if len(_PIECE.findall(text)) < 2)
    signs = Counter(
        found[1] for found in keys if found and not _MAC.match(found.string, found.start(1) - 2)
    )
    if not signs or signs.total() < _OFTEN * len(said):
        return ""
    sign = Counter(each.strip() for each in signs.elements()).most_common(1)[0][0]
    written = max((each for each in signs if each.strip() == sign), key=lambda each: signs[each])
    if sign == ":" and written.endswith(" "):
        written = ": "
    return quoted(" = " if sign == "=" and " " in written else written)


def pieces(lines: Lines, words: Words) -> str:
    """The value of ``pieces``; empty if statements have none."""
    many = sum(len(_PIECE.findall(line.text)) > 1 for line in lines.plain)
    return '"="' if many > 1 and "assign" not in words else ""


def goes_on(lines: Lines, words: Words) -> str:
    """The value of ``continue``; empty if every statement ends with its line."""
    return quoted("\\") if any(line.text.endswith(" \\") for line in lines.plain) else ""


def tick(lines: Lines, words: Words) -> str:
    """The value of ``tick``; empty if lines have no mark before them."""
    ticked = sum(line.lstrip().startswith(TICK) for line in lines.text.split("\n"))
    return quoted(TICK.strip()) if ticked > 2 else ""


def quote(lines: Lines, words: Words) -> str:
    """The value of ``quote``; empty if no text is quoted."""
    texts = "|".join(re.escape(text) for text in lines.meanings.texts) or "(?!)"
    found = re.findall(rf"([\"'])(?:{texts})\1", lines.text)
    found = found or re.findall(r"(?<=[\s=:])([\"'])[^\"'\n]*\1", lines.text)
    if not found:
        return ""
    sign = Counter(found).most_common(1)[0][0]
    return quoted(sign) + (" backslash" if f"\\{sign}" in lines.text else " doubled")
