"""Cuts a text into statements: where each begins and ends, and what between them says nothing."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from functools import lru_cache
from typing import NamedTuple

from reservoir.dialects.notations.files import FILE_MARK
from reservoir.dialects.notations.nodes import Node


@dataclass(frozen=True)
class Signs:
    """What tells one statement from the next, and from what says nothing."""

    ends: str = ""
    """The sign that ends a statement; else the end of its line does."""
    opens: str = ""
    closes: str = ""
    """The signs around what is inside a statement, if there are such."""
    continues: str = ""
    """The sign at the end of a line with which its statement goes on in the next one."""
    remarks: tuple[str, ...] = ()
    """Signs that begin a comment on a line of its own."""
    trailing: tuple[str, ...] = ()
    """Those of them that also begin one behind a statement."""
    pairs: tuple[tuple[str, str], ...] = ()
    """Signs between which all is a comment, over lines; the first of them begins a line."""
    quote: str = ""
    """The sign around a text in which no other sign counts."""
    doubled: bool = False
    """That sign is doubled in such a text; otherwise a backslash goes before it."""
    tick: str = ""
    """The mark before a statement that somebody ticks once it is done; no part of it."""
    files: bool = False
    """Lines that name a file aren't comments, however they begin."""

    @property
    def is_by_line(self) -> bool:
        """Whether each line is a statement by itself."""
        return not (self.ends or self.opens or self.continues)

    @property
    def any_tick(self) -> str:
        """A regular expression for the mark, ticked or not; matches nothing where there is none."""
        before, blank, after = self.tick.partition(" ")
        return f"{re.escape(before)}[^\\n]{re.escape(after)}[ \\t]+" if blank else "(?!)"

    def in_text(self) -> tuple[str, ...]:
        """The signs that end or open something wherever they stand outside of quotes."""
        return tuple(sign for sign in (self.ends, self.opens, self.closes) if sign)

    def quoted(self) -> str:
        """A regular expression for a quoted text; empty where there are none."""
        if not self.quote:
            return ""
        sign = re.escape(self.quote)
        inside = f"[^{sign}\\n]|{sign}{sign}" if self.doubled else rf"[^{sign}\\\n]|\\."
        return f"{sign}(?:{inside})*{sign}"

    def trailing_comment(self) -> str:
        """A regular expression for a comment behind a statement; empty where there are none."""
        signs = "|".join(map(re.escape, self.trailing))
        return f"(?:(?<=[ \\t])|^)(?:{signs})[^\\n]*" if signs else ""


class Mark(NamedTuple):
    """A sign that opens or closes what is inside the statement before it."""

    opens: bool
    node: Node
    """Where it stands."""


@dataclass
class Scanned:
    """The statements of a text, and the signs between them, in order."""

    parts: list[Node | Mark] = field(default_factory=list)
    comments: int = 0
    """Lines that are comments."""

    @property
    def nodes(self) -> list[Node]:
        """The statements, where there are no signs between them."""
        return self.parts  # type: ignore[return-value]


def scanned(text: str, signs: Signs, made: type[Node] = Node) -> Scanned:
    """Cut a text into statements, each a node of the type ``made``.

    Only ``\\n`` ends a line; only blanks, tabs and a carriage return around it don't count.
    """
    text, blanked = without_pairs(text, signs.pairs)
    scanner = _lines if signs.is_by_line else _Scanner(text, signs).scan
    found = scanner(text, signs, made)
    found.comments += blanked
    return found


def _lines(text: str, signs: Signs, made: type[Node]) -> Scanned:
    """A statement for each line that says something."""
    result = Scanned()
    add, remarks, start = result.parts.append, signs.remarks, 0
    behind = _behind(signs) if any(sign in text for sign in signs.trailing) else None
    ticked = re.compile(signs.any_tick).match if signs.tick else None
    for number, raw in enumerate(text.split("\n"), start=1):
        said = raw.strip(" \t\r")
        if said and remarks and said.startswith(remarks) and not _names_file(said, signs):
            result.comments += 1
        elif said:
            if behind is not None:
                said = _without_comment(said, behind)
            column = 1 if said is raw else raw.index(said[0]) + 1
            if ticked is not None and (tick := ticked(said)):
                said, column = said[tick.end() :], column + tick.end()
            begin = start + column - 1
            add(made(said, number, column, [], begin, begin + len(said)))
        start += len(raw) + 1
    return result


def _names_file(said: str, signs: Signs) -> bool:
    return signs.files and said.startswith(FILE_MARK)


@lru_cache(maxsize=1 << 6)
def _behind(signs: Signs) -> re.Pattern[str]:
    """Finds quoted texts, and comments behind statements."""
    return re.compile("|".join(filter(None, (signs.quoted(), f"({signs.trailing_comment()})"))))


def _without_comment(said: str, behind: re.Pattern[str]) -> str:
    for found in behind.finditer(said):
        if found[1] is not None:
            return said[: found.start()].rstrip(" \t")
    return said


@lru_cache(maxsize=1 << 6)
def _tokens(signs: Signs) -> re.Pattern[str]:
    """Finds what is between statements, and what looks like it in quotes."""
    remark = "|".join(map(re.escape, signs.remarks))
    escape = re.escape
    kinds = {
        "quoted": signs.quoted(),
        "line": f"^[ \\t]*(?:{remark})[^\\n]*" if remark else "",
        "behind": signs.trailing_comment(),
        "goes_on": f"{escape(signs.continues)}[ \\t\\r]*\\n" if signs.continues else "",
        "newline": "\\n",
        "closes": escape(signs.closes),
        "opens": escape(signs.opens),
        "ends": escape(signs.ends),
    }
    every = (f"(?P<{name}>{pattern})" for name, pattern in kinds.items() if pattern)
    return re.compile("|".join(every), re.MULTILINE)


class _Scanner:
    """Cuts a text in which signs end statements, open them, or let them go on."""

    def __init__(self, text: str, signs: Signs) -> None:
        self.text = text
        self.signs = signs
        self.result = Scanned()
        self.line, self.line_start = 1, 0
        self.begin = 0
        """Where what is being read begins."""
        self.parts: list[str] = []
        """What of the statement stood before a line's end or a comment."""
        self.place: tuple[int, int, int] | None = None
        """Line, column and offset of the statement."""
        self.said_to = 0
        """The offset behind its last word."""

    def scan(self, text: str, signs: Signs, made: type[Node]) -> Scanned:
        for token in _tokens(signs).finditer(text):
            kind, at = token.lastgroup or "", token.start()
            if kind == "quoted":
                continue
            self._take(at)
            if kind in ("opens", "closes", "ends"):
                self._finish(made, token.end() if kind == "ends" else 0)
                if kind != "ends":
                    self._mark(kind == "opens", token)
            elif kind in ("line", "behind"):
                own = text[self.line_start : at].strip(" \t") == ""
                self.result.comments += own
            else:
                if kind == "newline" and not signs.ends:
                    self._finish(made, 0)
                self.line += 1
                self.line_start = token.end()
            self.begin = token.end()
        self._take(len(text))
        self._finish(made, 0)
        return self.result

    def _take(self, end: int) -> None:
        """Take what was said up to a place."""
        raw = self.text[self.begin : end]
        said = raw.strip(" \t\r\n")
        if not said:
            return
        at = self.begin + raw.index(said[0])
        if self.place is None:
            self.place = self.line, at - self.line_start + 1, at
        self.parts.append(said)
        self.said_to = at + len(said)

    def _finish(self, made: type[Node], end: int) -> None:
        """End the statement, if one has begun."""
        if self.place is not None:
            line, column, start = self.place
            said = " ".join(self.parts)
            self.result.parts.append(made(said, line, column, [], start, end or self.said_to))
            self.place, self.parts = None, []

    def _mark(self, opens: bool, token: re.Match[str]) -> None:
        column = token.start() - self.line_start + 1
        node = Node(token[0], self.line, column, [], token.start(), token.end())
        self.result.parts.append(Mark(opens, node))


def without_pairs(text: str, pairs: tuple[tuple[str, str], ...]) -> tuple[str, int]:
    """A text with blanks for what is between pairs of signs, and how many lines then say nothing.

    Everything else stays where it is. What begins and doesn't end is no comment: somebody has to
    look at it.
    """
    ends = {begin: end for begin, end in pairs if begin in text}
    parts, done = list[str](), 0
    while ends and (found := _beginning(tuple(ends)).search(text, done)):
        end = text.find(ends[found[1]], found.end())
        if end < 0:
            del ends[found[1]]  # no comment of the kind ends any more
            continue
        end += len(ends[found[1]])
        parts += text[done : found.start()], re.sub(r"[^\r\n]", " ", text[found.start() : end])
        done = end
    if not parts:
        return text, 0
    blanked = "".join([*parts, text[done:]])
    both = zip(text.split("\n"), blanked.split("\n"), strict=True)
    return blanked, sum(bool(was.strip()) and not now.strip() for was, now in both)


@lru_cache(maxsize=1 << 6)
def _beginning(signs: tuple[str, ...]) -> re.Pattern[str]:
    return re.compile(rf"^[ \t]*({'|'.join(map(re.escape, signs))})", re.MULTILINE)
