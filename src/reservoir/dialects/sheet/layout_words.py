"""Reads the words of a header that say how a text is laid out."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace

from reservoir.core.wording import hint
from reservoir.dialects.forms.texts import Text
from reservoir.dialects.notations import CARRIERS
from reservoir.dialects.notations.blocks import Wording, Words
from reservoir.dialects.notations.layout import Layout
from reservoir.dialects.notations.nodes import Notation, Undo
from reservoir.dialects.notations.paths import BLANKS as PATH_BLANKS
from reservoir.dialects.notations.scanning import Signs
from reservoir.dialects.notations.tables import BLANKS as TABLE_BLANKS
from reservoir.dialects.sheet.mistakes import SheetMistakeError, number, only, pairs_of

TAB = "tab"


@dataclass
class LayoutWords:
    """How a text is laid out, as far as the header has said it."""

    carrier: type[Notation] | None = None
    """XML or JSON, whose layout is their own."""
    indent: int = 2
    layout: Layout = Layout()
    signs: Signs = Signs()

    def read_carrier(self, values: list[str]) -> None:
        """``carrier xml``."""
        name = only(values, "a carrier")
        if name not in CARRIERS:
            raise SheetMistakeError(
                f"there is no carrier {name!r}{hint(name, CARRIERS)}; there are "
                f"{', '.join(CARRIERS)}, and any other text is laid out by words of its own, "
                "such as: block indent 2"
            )
        self.carrier = CARRIERS[name]

    def read_statement(self, values: list[str]) -> None:
        """``statement ";"``, ``statement newline``."""
        sign = only(values, "the sign that ends a statement, or newline")
        self.signs = replace(self.signs, ends="" if sign == "newline" else _sign(sign))

    def read_continue(self, values: list[str]) -> None:
        """``continue "\\\\"``."""
        self.signs = replace(self.signs, continues=_sign(only(values, "a sign")))

    def read_block(self, values: list[str]) -> None:
        """``block indent 2 dash "-"``, ``block "{" "}"``, ``block opens "begin *" closes "x"``."""
        rest = list(values)
        if rest[:1] == ["opens"]:
            opens = list(_until(rest[1:], "closes"))
            closes = list(_until(rest[len(opens) + 2 :], "indent"))
            rest = rest[1 + len(opens) + 1 + len(closes) :]
            if not opens or len(closes) not in {1, len(opens)} or not all((*opens, *closes)):
                raise SheetMistakeError(_BLOCKS)
            words = Words(tuple(map(_wording, opens)), tuple(closes))
            self.layout = replace(self.layout, words=words)
        elif rest[:1] != ["indent"]:
            if len(rest) < 2:
                raise SheetMistakeError(_BLOCKS)
            opening, closing, *rest = rest
            self.signs = replace(self.signs, opens=_sign(opening), closes=_sign(closing))
        else:
            self.layout = replace(self.layout, by_indentation=True)
        pairs = pairs_of(rest, "block", ("indent", "dash"))
        self.indent = number(pairs.get("indent", str(self.indent)))
        if "dash" in pairs:
            if not self.layout.by_indentation:
                raise SheetMistakeError("items begin with a dash where blocks are indented")
            self.layout = replace(self.layout, dash=_sign(pairs["dash"]))

    def read_heading(self, values: list[str]) -> None:
        """``heading "[*]" "under *"``."""
        if not values:
            raise SheetMistakeError('a heading is words around a *: heading "[*]"')
        headings = (_wording(value) if "*" in value else Wording.of(value) for value in values)
        self.layout = replace(self.layout, heading=tuple(headings))

    def read_files(self, values: list[str]) -> None:
        """``files "50-" also ".d"``."""
        first, *rest = values or [""]
        pairs = pairs_of(rest, "files", ("also",))
        if not first:
            raise SheetMistakeError('files is how their names begin: files "50-"')
        self.layout = replace(self.layout, files=first, also=pairs.get("also", ""))

    def read_once(self, values: list[str]) -> None:
        """``once "Match" "Link"``."""
        if not values or not all(values):
            raise SheetMistakeError('once is the headings that are one: once "Network"')
        self.layout = replace(self.layout, once=frozenset(values))

    def read_assign(self, values: list[str]) -> None:
        """``assign ": "``."""
        self.layout = replace(self.layout, assign=_sign(only(values, "a sign")))

    def read_pieces(self, values: list[str]) -> None:
        """``pieces "="``."""
        self.layout = replace(self.layout, key_sign=_sign(only(values, "a sign")).strip())

    def read_path(self, values: list[str]) -> None:
        """``path " :: "``, ``path blanks``."""
        sign = only(values, "the sign between steps, or blanks")
        self.layout = replace(self.layout, path=sign if sign == PATH_BLANKS else _sign(sign))

    def read_tick(self, values: list[str]) -> None:
        """``tick "[ ]"``."""
        tick = only(values, "a mark with a blank in it, to be ticked")
        if not re.fullmatch("[^ ]+ [^ ]+", tick):
            raise SheetMistakeError('a mark to be ticked has one blank in it: tick "[ ]"')
        self.signs = replace(self.signs, tick=tick)

    def read_table(self, values: list[str]) -> None:
        """``table ","``, ``table tab``, ``table blanks``."""
        sign = only(values, "the sign between cells, or tab, or blanks")
        sign = "\t" if sign == TAB else sign
        if sign not in ("\t", TABLE_BLANKS) and not sign.strip():
            raise SheetMistakeError(_NOTHING)
        self.layout = replace(self.layout, table=sign)

    def read_comment(self, values: list[str]) -> None:
        """``comment "#" whole-line "~"``, ``comment "/*" to "*/"``."""
        signs, whole, pairs = list[str](), list[str](), list[tuple[str, str]]()
        following = iter(values)
        for sign in following:
            if sign == "to" and signs:
                pairs.append((signs.pop(), next(following, "")))
            elif sign == "whole-line" and signs:
                whole.append(signs.pop())
            else:
                signs.append(sign)
        if not values or not all((*signs, *whole, *(end for _, end in pairs))):
            raise SheetMistakeError(
                'expected the signs that begin a comment: "#", "~" whole-line or "/*" to "*/"'
            )
        every = (*signs, *whole)
        self.signs = replace(self.signs, remarks=every, trailing=tuple(signs), pairs=tuple(pairs))

    def mistakes(self, seen: Mapping[str, int]) -> Iterator[tuple[int, str]]:
        """What doesn't fit together, each with its line."""
        own = sorted((line, word) for word, line in seen.items() if word in LAYOUT)
        if self.carrier is not None:
            yield from ((line, f"{word} is not for XML or JSON") for line, word in own)
            if "comment" in seen and self.signs.pairs:
                yield seen["comment"], "in this notation no pair of signs is a comment"
        elif self.layout.table and self.layout.key_sign:
            yield seen["table"], "cells have the names of their columns: pieces can't stand there"
        elif self.signs.tick and not self.signs.is_by_line:
            yield seen["tick"], "a mark to be ticked stands before a line, which is one statement"
        elif "once" in seen and not self.layout.heading:
            yield seen["once"], 'once is about headings: heading "[*]"'

    def notation(self, text: Text, undo: Undo | None) -> Notation:
        """The notation, as the header describes it.

        Args:
            text: How free text is quoted.
            undo: How any line is undone.
        """
        if self.carrier is not None:
            return self.carrier(self.indent, comments=self.signs.remarks)
        signs = replace(
            self.signs, quote=text.quote, doubled=text.doubled, files=bool(self.layout.files)
        )
        return replace(
            self.layout, indent=self.indent, signs=signs, comments=signs.remarks, undo=undo
        )


LAYOUT: Mapping[str, Callable[[LayoutWords, list[str]], None]] = {
    "statement": LayoutWords.read_statement,
    "continue": LayoutWords.read_continue,
    "heading": LayoutWords.read_heading,
    "files": LayoutWords.read_files,
    "once": LayoutWords.read_once,
    "assign": LayoutWords.read_assign,
    "pieces": LayoutWords.read_pieces,
    "path": LayoutWords.read_path,
    "table": LayoutWords.read_table,
    "tick": LayoutWords.read_tick,
}
"""The words that mean something only for a text laid out by them."""

OF_ANY_TEXT: Mapping[str, Callable[[LayoutWords, list[str]], None]] = {
    "carrier": LayoutWords.read_carrier,
    "block": LayoutWords.read_block,
    "comment": LayoutWords.read_comment,
}
"""Those that mean something for XML and JSON too."""

_BLOCKS = (
    'a block is: block indent 2, block "{" "}", or block opens "begin *" closes "end" indent 2'
)
_NOTHING = "nothing stands between what this keeps apart"


def _sign(text: str) -> str:
    if not text.strip():
        raise SheetMistakeError(_NOTHING)
    return text


def _wording(text: str) -> Wording:
    words = Wording.of(text)
    if text.count("*") != 1 or not (words.before + words.after).strip():
        raise SheetMistakeError(f"{text!r} should be words around one *, such as: begin *")
    return words


def _until(values: list[str], word: str) -> Iterator[str]:
    for value in values:
        if value == word:
            return
        yield value
