"""Guesses how a sample is laid out: the words of a sheet's header that say it."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

from reservoir.dialects.learning.meanings import Meanings
from reservoir.dialects.notations.nodes import Notation
from reservoir.dialects.sheet.header import HeaderReader
from reservoir.dialects.sheet.layout_words import LAYOUT, OF_ANY_TEXT

_REMARKS = ("#", "!", ";", "//", "--", "%", "~", "'", "*")
"""Signs that a remark may begin with."""

_SIGNED_HEADING = re.compile(r"(?P<before>[^\w\s\"']+ ?)(?=[\w\"'])(?P<title>.*?)(?P<after> ?[^\w\s\"'/]+)")
_RULE = re.compile(r"[-+=|: \t]{3,}")
_ASSIGN = re.compile(r"[A-Za-z_][^\"'=:]*?([ \t]*[=:])(?=[ \t]|\S)")
_PIECE = re.compile(r"(?<![^\s])[A-Za-z_][\w.-]*=(?=\S)")
WORDS = (*LAYOUT, *OF_ANY_TEXT, "quote")
"""The words of a header that are guessed here."""

_MOSTLY = 0.6
_TICK = "[ ] "
"""The mark before a line that somebody ticks."""


def quoted(text: str) -> str:
    """A value as a header has it."""
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


@dataclass(frozen=True)
class Line:
    """A line of the sample that says something."""

    number: int
    indent: int
    text: str
    is_value: bool
    """Whether something that the plan has is in it."""

    @property
    def first(self) -> str:
        """Its first word."""
        return self.text.split()[0]


@dataclass(frozen=True)
class LayoutGuess:
    """Words of a header, each with its values as they are written there."""

    words: Mapping[str, str]

    @property
    def header(self) -> list[str]:
        """The lines of the header."""
        return [f"{word:<9} {values}" for word, values in self.words.items()]

    def notation(self, *without: str) -> Notation:
        """The notation that they describe, without some of them."""
        return self.less(*without)._read().notation

    @property
    def problems(self) -> list[str]:
        """What is wrong with them."""
        reader = self._read()
        unknown = [f"{word!r} says nothing of the layout" for word in self.words if word not in WORDS]
        return [*unknown, *(problem.message for problem in reader.problems)]

    def _read(self) -> HeaderReader:
        reader = HeaderReader("draft")
        for number, (word, values) in enumerate(self.words.items(), start=1):
            reader.take(number, f"{word} {values}")
        return reader

    def told(self, words: Mapping[str, str]) -> LayoutGuess:
        """The same with some words said by somebody; ``none`` leaves one out."""
        every = {**self.words, **words}
        return LayoutGuess({word: values for word, values in every.items() if values != "none"})

    def less(self, *words: str) -> LayoutGuess:
        """The same without some words."""
        return LayoutGuess({w: v for w, v in self.words.items() if w not in words})


def guesses(text: str, meanings: Meanings) -> list[LayoutGuess]:
    """How a text may be laid out, the likeliest first."""
    begin = text.lstrip("\ufeff \t\r\n")[:1]
    if begin in ("{", "["):
        try:
            json.loads(text)
            return [LayoutGuess({"carrier": "json", "block": "indent 2"})]
        except ValueError:
            pass
    if begin == "<":
        return [LayoutGuess({"carrier": "xml", "block": "indent 2"})]
    features = _Features(text, meanings)
    first = features.guess
    others = [
        first.less(*words)
        for words in (("path",), ("heading",), ("assign",), ("table",), ("pieces",), ("block",))
        if any(word in first.words for word in words)
    ]
    others += [LayoutGuess({**first.less("comment").words, "heading": quoted(f"{sign} *")})
               for sign in features.one_sided]  # fmt: skip
    if "block" not in first.words and "path" not in first.words and "table" not in first.words:
        others.append(LayoutGuess({**first.words, "path": "blanks"}))
    return list({guess.header.__str__(): guess for guess in [first, *others]}.values())


class _Features:
    """What of a text tells how it is laid out."""

    def __init__(self, text: str, meanings: Meanings) -> None:
        self.text = text
        self.meanings = meanings
        self.all_lines = list(self._lines(text))
        self.remarks = self._remarks()
        every = [line for line in self.all_lines if not line.text.startswith(tuple(self.remarks))]
        self.plain_lines = every
        self.lines = [line for line in every if not _RULE.fullmatch(line.text)]

    def _lines(self, text: str) -> Iterator[Line]:
        for number, raw in enumerate(text.split("\n"), start=1):
            said = raw.strip(" \t\r")
            if said.startswith(_TICK):
                raw = raw.replace(_TICK, "", 1)
                said = raw.strip(" \t\r")
            if said:
                indent = len(raw.expandtabs(8)) - len(raw.expandtabs(8).lstrip(" "))
                words = self.meanings.words(said)
                is_value = any(m.is_sure for word in words for m in word.meanings)
                yield Line(number, indent, said, is_value)

    @cached_property
    def guess(self) -> LayoutGuess:
        """The likeliest layout."""
        words: dict[str, str] = {}
        finders: Sequence[tuple[str, Callable[[], str]]] = (
            ("files", self._files),
            ("statement", self._statement),
            ("block", self._block),
            ("heading", self._heading),
            ("table", self._table),
            ("assign", self._assign),
            ("pieces", self._pieces),
            ("path", self._path),
            ("continue", self._continue),
            ("tick", self._tick),
            ("comment", self._comment),
            ("quote", self._quote),
        )
        self.words = words
        for word, finder in finders:
            found = finder()
            if found:
                words[word] = found
        return LayoutGuess(words)

    def _remarks(self) -> list[str]:
        """The signs with which remarks begin on a line of their own."""
        found = []
        for sign in _REMARKS:
            its = [line for line in self.all_lines if line.text.startswith(sign)]
            behind = [line.text[len(sign) :] for line in its]
            is_text = all(re.match(r"[ \t]*$|[ \t]*\w|[ \t]*[(\"]", rest) for rest in behind)
            ends = any(rest.strip() and rest.strip().endswith(sign[-1]) for rest in behind)
            if its and is_text and not ends and not any(line.is_value for line in its):
                found.append(sign)
        return found

    @cached_property
    def one_sided(self) -> list[str]:
        """Signs that several lines begin with, which may be headings as well as remarks."""
        firsts = Counter(line.first for line in self.all_lines if not line.is_value)
        return [sign for sign, count in firsts.items() if count > 1 and re.fullmatch(r"[^\w\s*]+", sign)
                and sign not in ("-", "}", "{", "|")]  # fmt: skip

    def _comment(self) -> str:
        signs = []
        for sign in self.remarks:
            behind = re.compile(rf"(?<=[ \t]){re.escape(sign)}[ \t]+\w[^\n]*$", re.MULTILINE)
            lines = [line.text for line in self.lines]
            is_trailing = any(behind.search(line) for line in lines)
            signs.append(quoted(sign) + ("" if is_trailing else " whole-line"))
        for line in self.lines:
            found = re.search(r"(?<=[ \t;}])(#|//|!|--)[ \t]+\w[^\n]*$", line.text)
            if found and found[1] not in self.remarks and quoted(found[1]) not in signs:
                if not any(m.is_sure for w in self.meanings.words(found[0]) for m in w.meanings):
                    signs.append(quoted(found[1]))
        if re.search(r"^[ \t]*/\*", self.text, re.MULTILINE) and "*/" in self.text:
            signs.append('"/*" to "*/"')
        return " ".join(signs)

    @cached_property
    def has_braces(self) -> bool:
        """Whether signs stand around blocks."""
        lines = [line.text for line in self.lines]
        opens = sum(bool(re.search(r"\{(?=[^{}]*$|.*\})", text)) for text in lines)
        closes = sum(text.startswith("}") or text.endswith("}") for text in lines)
        return opens > 0 and closes > 0 and self.text.count("{") == self.text.count("}")

    def _statement(self) -> str:
        plain = [x.text for x in self.lines if not re.match(r".*[{}][ \t]*$|[{}]", x.text)]
        ended = sum(text.endswith(";") for text in plain)
        return '";"' if plain and ended >= _MOSTLY * len(plain) else ""

    @cached_property
    def indent(self) -> int:
        """By how many blanks what is inside stands deeper."""
        steps = [b.indent - a.indent for a, b in pairwise(self.lines) if b.indent > a.indent]
        return Counter(steps).most_common(1)[0][0] if steps else 0

    def _block(self) -> str:
        if self.has_braces:
            return f'"{{" "}}" indent {self.indent or 2}'
        words = self._closing_words()
        if words:
            return words
        dash = sum(line.text == "-" or line.text.startswith("- ") for line in self.lines)
        if self.indent or dash:
            if self._only_under_headings():
                return ""
            return f"indent {self.indent or 2}" + (' dash "-"' if dash else "")
        return ""

    def _only_under_headings(self) -> bool:
        """Whether indentation only says again what headings say."""
        titles = {line.text for line in self._signed_headings()}
        if not titles:
            return False
        depths = {line.indent for line in self.lines if line.text not in titles}
        return len(depths) == 1

    def _closing_words(self) -> str:
        """Words that open and close blocks, told by how deep they stand."""
        closing: Counter[str] = Counter()
        opened: list[tuple[Line, str]] = []
        # A word closes a block if it stands as deep as what opened it, behind what is inside.
        openers = self._with_their_ends()
        for line, end in openers:
            if end is None:
                continue
            same = end.text.split()[-1] == line.text.split()[-1] and " " in end.text
            if same and end.text.split()[0] != line.first:
                words = f"{end.text.rpartition(' ')[0]} *"
            elif re.fullmatch(r"[\w!.-]+(?: \w+)?", end.text) and not end.is_value:
                words = end.text
            else:
                continue
            closing[words] += 1
            opened.append((line, words))
        words = [word for word, count in closing.items() if count > 1 or len(openers) == 1]
        if not words or sum(closing[word] for word in words) < len(openers):
            return "" if self.indent else self._balanced_words()
        return self._opening_words(opened)

    def _balanced_words(self) -> str:
        """Words that open and close blocks, told by how often and in which order they stand."""
        texts = Counter(line.text for line in self.lines if not line.is_value)
        for end in [text for text, count in texts.items() if count > 1 and len(text.split()) == 1]:
            firsts = Counter(line.first for line in self.lines if line.text != end)
            for first in [word for word, count in firsts.items() if count == texts[end]]:
                depth, lowest = 0, 0
                for line in self.lines:
                    depth += (line.first == first) - (line.text == end)
                    lowest = min(lowest, depth)
                if not depth and not lowest:
                    opens = quoted(f"{first} *")
                    return f"opens {opens} closes {quoted(end)} indent 2"
        return ""

    def _with_their_ends(self) -> list[tuple[Line, Line | None]]:
        """The lines before deeper ones, each with the line behind these."""
        found = []
        for at, line in enumerate(self.lines[:-1]):
            if self.lines[at + 1].indent <= line.indent:
                continue
            rest = self.lines[at + 1 :]
            end = next((other for other in rest if other.indent <= line.indent), None)
            found.append((line, end if end is not None and end.indent == line.indent else None))
        return found

    def _opening_words(self, opened: Sequence[tuple[Line, str]]) -> str:
        """The words of lines that open blocks, with those that close each."""
        lines = [line for line, _ in opened]
        if all(line.text.endswith(":") for line in lines) and len({end for _, end in opened}) == 1:
            return f'opens "*:" closes {quoted(opened[0][1])} indent {self.indent}'
        closes: dict[str, str] = {}
        for line, end in opened:
            others = [other for other in self.lines if other.first == line.first]
            is_plain = all(len(other.text.split()) == 2 for other in others)
            has_two = not is_plain and len(line.text.split()) > 2
            begin = " ".join(line.text.split()[:-1]) if has_two else line.first
            same = {other.text.rsplit(" ", 1)[0] for other, _ in opened if other.first == line.first}
            begin = begin if len(same) == 1 else line.first
            if "*" in end:  # it says what stands for the * again
                begin = line.text.rpartition(" ")[0]
            closes.setdefault(f"{begin} *" if " " in line.text else line.text, end)
        opens = " ".join(map(quoted, closes))
        ends = list(closes.values())
        said = ends[:1] if len(set(ends)) == 1 else ends
        return f"opens {opens} closes {' '.join(map(quoted, said))} indent {self.indent}"

    def _signed_headings(self) -> list[Line]:
        """Lines between signs that mirror each other: ``[x]``, ``== x ==``."""
        mirrored = str.maketrans("[](){}<>", "][)(}{><")
        found = []
        for line in self.lines:
            match = _SIGNED_HEADING.fullmatch(line.text)
            is_row = match is not None and match["before"].strip() in match["title"]
            if match and not is_row and match["after"] == match["before"][::-1].translate(mirrored):
                found.append(line)
        return found

    def _heading(self) -> str:
        if self.has_braces:
            return ""
        signed = self._signed_headings()
        if signed:
            wordings = []
            for line in signed:
                match = _SIGNED_HEADING.fullmatch(line.text)
                if match:
                    wordings.append(f"{match['before']}*{match['after']}")
            return " ".join(quoted(wording) for wording in dict.fromkeys(wordings))
        underlined = [
            above.text
            for above, below in pairwise(self.plain_lines)
            if re.fullmatch("[=~^-]{3,}", below.text) and not above.is_value
        ]
        if underlined:
            return " ".join(map(quoted, dict.fromkeys(underlined)))
        if self.indent or "block" in self.words:
            return ""
        return self._worded_headings()

    def _worded_headings(self) -> str:
        """Lines without a value that stand before others: ``under x``, or titles in capitals."""
        words = Counter(line.first for line in self.lines)
        alike = {
            line.first
            for line in self.lines
            if words[line.first] > 1 and not re.search(r"[=:]", line.text)
        }
        for word in sorted(alike):
            its = [line for line in self.lines if line.first == word]
            short = all(2 <= len(line.text.split()) <= 4 and not line.is_value for line in its)
            if short and len({line.text for line in its}) > 1 and self._hold_others(its):
                return quoted(f"{word} *")
        titles = [
            line.text
            for line in self.lines
            if not line.is_value and re.fullmatch(r"[A-Z][A-Z0-9 _/-]+", line.text)
        ]
        return " ".join(map(quoted, dict.fromkeys(titles)))

    def _hold_others(self, lines: Sequence[Line]) -> bool:
        """Whether something else stands behind each of some lines."""
        at = {line.number: place for place, line in enumerate(self.lines)}
        places = [at[line.number] for line in lines]
        return all(place + 1 < len(self.lines) and place + 1 not in places for place in places)

    def _files(self) -> str:
        return ""

    def _table(self) -> str:
        if self.has_braces:
            return ""
        for sign, value in (("|", '"|"'), ("\t", "tab"), (",", '","'), (";", '";"')):
            raw = self.text.split("\n")
            counts = [line.count(sign) for line in raw if line.strip()]
            runs = sum(a == b >= 1 for a, b in pairwise(counts))
            if runs >= 3 and self._has_header(lambda line, sign=sign: line.split(sign)):
                return value
        if not self.indent and self._has_header(lambda line: re.split(r" {2,}", line.strip())):
            return "blanks"
        return ""

    def _has_header(self, cells: Callable[[str], Sequence[str]]) -> bool:
        """Whether a line of names stands above one of values, with as many cells."""
        known = {line.text: line.is_value for line in self.lines}
        for above, below in pairwise([line.text for line in self.lines]):
            names = [cell.strip() for cell in cells(above)]
            plain = [name for name in names if re.fullmatch(r"[A-Za-z][\w ./()-]*", name)]
            if len(plain) > 1 and len(plain) >= len([n for n in names if n]) and not known[above]:
                if known[below] and len(cells(below)) >= 2:
                    return True
        return False

    def _assign(self) -> str:
        if "table" in self.words and '"|"' not in self.words["table"]:
            return ""
        signs: Counter[str] = Counter()
        said = 0
        for line in self.lines:
            text = line.text.rstrip("{;").rstrip()
            text = re.sub(r"^-[ \t]+", "", text)
            said += line.is_value
            if line.is_value and len(_PIECE.findall(text)) < 2:
                found = re.match(r"[A-Za-z_][^\"'=:{}]*?([ \t]*[=:][ \t]*)(?=\S)", text)
                if found and not re.match(r"[0-9A-Fa-f]{2}:[0-9A-Fa-f]{2}:", text[found.start(1) - 2 :]):
                    signs[found[1]] += 1
        if not signs or sum(signs.values()) < 0.4 * said:
            return ""
        sign = Counter(s.strip() for s in signs.elements()).most_common(1)[0][0]
        written = Counter({s: n for s, n in signs.items() if s.strip() == sign}).most_common(1)[0][0]
        if sign == ":" and written.endswith(" "):
            written = ": "
        return quoted(" = " if written.strip() == "=" and " " in written else written)

    def _pieces(self) -> str:
        many = sum(len(_PIECE.findall(line.text)) > 1 for line in self.lines)
        return '"="' if many > 1 and "assign" not in self.words else ""

    def _path(self) -> str:
        if "block" in self.words or "table" in self.words or "pieces" in self.words:
            return ""
        texts = [line.text for line in self.lines if line.is_value]
        for sign in (" :: ", " > ", " / ", "::", " -> "):
            if texts and sum(sign in text for text in texts) > _MOSTLY * len(texts):
                return quoted(sign)
        if "assign" in self.words:
            mark = self.words["assign"].strip('"').strip()
            keys = [text.partition(mark)[0].strip() for text in texts]
            for sign in (".", "/", "_", ":"):
                if keys and sum(sign in key for key in keys) > _MOSTLY * len(keys):
                    return quoted(sign)
            return ""
        if "heading" in self.words:
            return ""
        return "blanks" if self._shares_beginnings(texts) else ""

    def _shares_beginnings(self, texts: Sequence[str]) -> bool:
        """Whether most lines begin with two words and a value that others begin with."""
        begins = Counter(tuple(text.split()[:3]) for text in texts)
        shared = sum(count for begin, count in begins.items() if count > 1 and len(begin) == 3)
        return bool(texts) and shared >= 0.4 * len(texts)

    def _continue(self) -> str:
        return quoted("\\") if any(line.text.endswith(" \\") for line in self.lines) else ""

    def _tick(self) -> str:
        ticked = sum(line.lstrip().startswith(_TICK) for line in self.text.split("\n"))
        return quoted(_TICK.strip()) if ticked > 2 else ""

    def _quote(self) -> str:
        texts = "|".join(re.escape(text) for text in self.meanings.texts)
        found = re.findall(rf"([\"'])(?:{texts})\1", self.text) if texts else []
        if not found:
            found = re.findall(r"(?<=[\s=:])([\"'])[^\"'\n]*\1", self.text)
        if not found:
            return ""
        sign = Counter(found).most_common(1)[0][0]
        return quoted(sign) + (" backslash" if f"\\{sign}" in self.text else " doubled")
