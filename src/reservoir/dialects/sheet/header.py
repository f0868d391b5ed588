"""Reads the header of a sheet: words and values, one a line."""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from reservoir.core.problems import Place, Problem
from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.durations import parse_duration
from reservoir.core.values.options import KINDS as OPTION_KINDS
from reservoir.core.wording import hint
from reservoir.dialects.facts.kinds import LEASE_STATES
from reservoir.dialects.forms.durations import DurationForm
from reservoir.dialects.forms.form import Form
from reservoir.dialects.forms.moments import MomentForm
from reservoir.dialects.forms.plain import (
    ADDRESS,
    HEX,
    IDENTIFIER,
    NUMBER,
    OPTION_CODE,
    PREFIX,
    VLAN,
    MacForm,
    beginning_of,
    codes_except,
    either,
)
from reservoir.dialects.forms.texts import EscapedBytes, ListOf, Rest, Text
from reservoir.dialects.forms.words import OwnWords
from reservoir.dialects.notations.nodes import Notation, Undo
from reservoir.dialects.sheet.form_words import (
    characters,
    duration_form,
    grouped_bytes,
    mac_form,
)
from reservoir.dialects.sheet.hints import HEADERS
from reservoir.dialects.sheet.layout_words import LAYOUT, OF_ANY_TEXT, LayoutWords
from reservoir.dialects.sheet.lint import limits_of
from reservoir.dialects.sheet.mistakes import SheetMistakeError, number, only, pairs_of
from reservoir.dialects.sheet.model import Naming, Row, Sheet
from reservoir.dialects.sheet.traits import LIMITS, TRAITS


class HeaderReader:
    """Makes forms, traits and limits of a sheet's header; collects every mistake in it."""

    def __init__(self, file: str) -> None:
        """Begin with what a sheet is that says nothing."""
        self.file = file
        self.problems: list[Problem] = []
        self.seen: dict[str, int] = {}
        self.name = self.about = self.suffix = ""
        self.layout = LayoutWords()
        self.naming = Naming()
        self.separator = " "
        self.text = Text()
        self.mac = MacForm()
        self.duration = DurationForm()
        self.moment = MomentForm()
        self.bool: Form = either("yes", "no")
        self.codes: Form = OPTION_CODE
        self.traits = {name: trait.default for name, trait in TRAITS.items()}
        self.traits_in: dict[str, int] = {}
        """The line of each trait that the header names."""
        self.limits: dict[str, int] = {}
        self.assumed: dict[tuple[str, str], Any] = {
            ("interface", "enabled"): True,
            ("pool", "leads"): True,
        }
        self.undo: Undo | None = None
        self.named: dict[str, tuple[str, Form]] = {}
        self.of_fields: dict[tuple[str, str], Form] = {}
        """Forms that are for one field only, by kind and field."""
        self.part = ""
        """The part of the sheet that it is for; empty for the configuration."""
        self.is_journal = False
        """Whether what stands later about an address counts, instead of what is above."""

    def for_part(self, part: str) -> HeaderReader:
        """One for a part with a layout of its own, whose values are written as elsewhere."""
        its = HeaderReader(self.file)
        its.part, its.name, its.about, its.suffix = part, self.name, self.about, self.suffix
        its.text = replace(self.text, reserved=set(self.text.reserved))
        its.mac, its.duration, its.moment, its.bool = (
            self.mac,
            self.duration,
            self.moment,
            self.bool,
        )
        its.separator, its.named = self.separator, dict(self.named)
        return its

    def take(self, number: int, line: str) -> None:
        """Read one line of the header."""
        if not line.strip() or line.startswith("#"):
            return None
        try:
            words = shlex.split(line)
        except ValueError:
            return self._mistake(number, "a quotation mark is missing")
        word, values = words[0], words[1:]
        if (wrong := self._wrong_word(word)) is not None:
            return self._mistake(number, wrong)
        of_layout = _LAYOUT_WORDS.get(word)
        reader = HEADER_WORDS.get(word)
        self.seen[word] = number
        if word == "trait" and values and values[0] in TRAITS:
            self.traits_in[values[0]] = number
        try:
            if of_layout is not None:
                of_layout(self.layout, values)
            elif reader is not None:
                reader(self, values)
        except (SheetMistakeError, MalformedValueError) as error:
            self._mistake(number, str(error))

    def _wrong_word(self, word: str) -> str | None:
        """Why no line of this header may begin with a word; None if one may."""
        if word not in HEADER_WORDS and word not in _LAYOUT_WORDS:
            return _unknown_word(word)
        if self.part and word in HEADER_WORDS and word not in OF_PARTS:
            return f"{word} is said once, in the sheet's header"
        if not self.part and word in ONLY_OF_PARTS:
            return f"{word} stands in a part: part leases"
        if word not in SEVERAL and word in self.seen:
            return f"{word} is already set in line {self.seen[word]}"
        return None

    def finish(self, number: int) -> None:
        """Look for what is missing."""
        if not (self.part or "sheet" in self.seen):
            self._mistake(number, "the header is missing sheet")
        for line, message in self.layout.mistakes(self.seen):
            self._mistake(line, message)
        if self.undo is not None and not self.notation.has_undo:
            self._mistake(self.seen["undo"], "in this notation a line is undone by leaving it out")
        if not self.suffix:
            self.suffix = self.name

    @property
    def notation(self) -> Notation:
        """The notation, as the header describes it."""
        return self.layout.notation(self.text, self.undo)

    def forms(self) -> tuple[dict[str, Form], dict[str, tuple[str, Form]]]:
        """The forms by field type, and those that have names."""
        if self.part:
            self.of_fields["lease", "left"] = replace(self.duration, may_be_nothing=True)
        carrier = self.notation
        text = carrier.text_form(replace(self.text, avoid=carrier.avoid))
        self.named["rest"] = ("text", Rest(avoid=carrier.avoid))
        forms: dict[str, Form] = {
            "ip": ADDRESS,
            "prefix": PREFIX,
            "vlan": VLAN,
            "code": self.codes,
            "bytes": HEX,
            "identifier": IDENTIFIER,
            "mac": self.mac,
            "duration": self.duration,
            "moment": self.moment,
            "state": OwnWords({state: state for state in LEASE_STATES}),
            "text": text,
            "number": NUMBER,
            "bool": self.bool,
            "ips": ListOf(carrier.item_form(ADDRESS), self.separator),
            "prefixes": ListOf(carrier.item_form(PREFIX), self.separator),
            "numbers": ListOf(carrier.item_form(NUMBER), self.separator),
            "mac_beginning": beginning_of(self.mac),
            "texts": ListOf(carrier.item_form(text), self.separator),
        }
        return forms, self.named

    def sheet(self, rows: list[Row], left: Iterable[re.Pattern[str]]) -> Sheet:
        """The sheet, once header and body have no mistakes."""
        return Sheet(
            name=self.name,
            file=self.file,
            about=self.about,
            suffix=self.suffix,
            notation=self.notation,
            naming=self.naming,
            duration=self.duration,
            traits=self.traits,
            limits=limits_of(rows) | self.limits,
            assumed=self.assumed,
            rows=tuple(rows),
            undo=self.undo,
            words={
                field: form.words
                for field, form in self.of_fields.items()
                if isinstance(form, OwnWords)
            },
            left=tuple(left),
            is_journal=self.is_journal,
        )

    def _mistake(self, number: int, message: str) -> None:
        self.problems.append(Problem(Place(self.file, number), message))

    def _read_sheet(self, values: list[str]) -> None:
        self.name = only(values, "a name")
        if not re.fullmatch("[a-z][a-z0-9-]*", self.name):
            raise SheetMistakeError("a dialect's name is made of lower-case letters, digits and -")

    def _read_about(self, values: list[str]) -> None:
        self.about = only(values, "a quoted sentence")

    def _read_file(self, values: list[str]) -> None:
        self.suffix = only(values, "the ending of a file's name")

    def _read_codes(self, values: list[str]) -> None:
        if len(values) < 2 or values[0] != "except":
            raise SheetMistakeError("codes lists the options that are not allowed: codes except 43")
        self.codes = codes_except(frozenset(OPTION_CODE.read(value) for value in values[1:]))

    def _read_bool(self, values: list[str]) -> None:
        if len(values) != 2 or values[0] == values[1]:
            raise SheetMistakeError('a bool is two words, such as: bool "on" "off"')
        self.bool = either(*values)

    def _read_quote(self, values: list[str]) -> None:
        if values == ["none"]:
            return
        sign, way, *rest = [*values, "", ""][: max(2, len(values))]
        if len(sign) != 1 or way not in ("doubled", "backslash") or rest not in ([], ["always"]):
            raise SheetMistakeError(
                'quote is "\\"" doubled, "\\"" backslash, or none; with always behind it, '
                "texts are quoted that need not be"
            )
        self.text = replace(self.text, quote=sign, doubled=way == "doubled", always=bool(rest))

    def _read_bare(self, values: list[str]) -> None:
        self.text = replace(self.text, bare=characters(only(values, "a set of characters")))

    def _read_undo(self, values: list[str]) -> None:
        line, *rest = values or [""]
        before, found, after = line.partition("{line}")
        if not found or not before.endswith(" ") or not before.strip():
            raise SheetMistakeError('undo is one word or more, then the line: undo "cancel {line}"')
        instead = pairs_of(rest, "undo", ("instead",)).get("instead", "")
        self.undo = Undo(before, after, f"{instead} " if instead else "")

    def _read_list(self, values: list[str]) -> None:
        self.separator = only(values, "a separator")
        if self.separator.isalnum():
            raise SheetMistakeError(f'{self.separator!r} would join items into one: list ","')

    def _read_names(self, values: list[str]) -> None:
        pairs = pairs_of(values, "names", ("longest", "characters"))
        self.naming = Naming(
            number(pairs.get("longest", "0")), characters(pairs.get("characters", ""))
        )

    def _read_mac(self, values: list[str]) -> None:
        self.mac = mac_form(values)

    def _read_form(self, values: list[str]) -> None:
        name, sign, of, *rest = [*values, "", "", ""][: max(3, len(values))]
        if sign != "=" or of not in ("mac", "bytes"):
            raise SheetMistakeError(
                'a form is like: form clientid = mac prefix "01." group 6 sep ".", '
                'form escaped = bytes escape "%", or: form grouped = bytes group 4 sep "."'
            )
        if of == "mac":
            self.named[name] = ("mac", mac_form(rest))
        elif rest[:1] == ["escape"]:
            pairs = pairs_of(rest, "bytes", ("escape",))
            self.named[name] = ("bytes", EscapedBytes(pairs["escape"]))
        else:
            self.named[name] = ("bytes", grouped_bytes(rest))

    def _read_words(self, values: list[str]) -> None:
        of = next(iter(values), "")
        if of not in CLOSED_SETS or not values[1:]:
            raise SheetMistakeError(
                'words are the device\'s own for a closed set: words option.type text="ascii", '
                'or: words lease.state ended="free"'
            )
        words: dict[str, str] = {}
        for pair in values[1:]:
            value, sign, word = pair.partition("=")
            if value not in CLOSED_SETS[of]:
                there = f"{hint(value, CLOSED_SETS[of])}; there are {', '.join(CLOSED_SETS[of])}"
                raise SheetMistakeError(f"there is no {of.partition('.')[2]} {value!r}{there}")
            if not sign or not word or word in words.values() or value in words:
                what = of.partition(".")[2]
                raise SheetMistakeError(f"each {what} has one word of its own, not {pair!r}")
            words[value] = word
        kind, _, name = of.partition(".")
        self.of_fields[kind, name] = OwnWords(words)

    def _read_moment(self, values: list[str]) -> None:
        pairs = pairs_of(values[1:], "moment", ("infinite", "clock"))
        if pairs.get("clock", "utc") != "utc":
            raise SheetMistakeError("the clock of a moment is utc, or is not known: leave it out")
        self.moment = MomentForm(
            values[0] if values else "", pairs.get("infinite", ""), is_utc="clock" in pairs
        )
        if (wrong := self.moment.mistake) is not None:
            raise SheetMistakeError(wrong)

    def _read_journal(self, values: list[str]) -> None:
        if values:
            raise SheetMistakeError("journal stands by itself")
        self.is_journal = True

    def _read_duration(self, values: list[str]) -> None:
        name = values[0] if values and values[0] in ("lease", "longest") else ""
        if ("pool", name or "lease") in self.of_fields:
            raise SheetMistakeError(f"the duration of {name or 'lease'} is already set")
        form = duration_form(values[bool(name) :])
        for kind in ("pool", "binding"):
            self.of_fields[kind, name or "lease"] = form
        if name != "longest":
            self.duration = form

    def _read_trait(self, values: list[str]) -> None:
        if len(values) != 2:
            raise SheetMistakeError("a trait has a name and a value: trait assigns ranges")
        name, value = values
        trait = TRAITS.get(name)
        if trait is None:
            raise SheetMistakeError(f"there is no trait {name!r}{hint(name, TRAITS)}")
        if not trait.values:
            parse_duration(value)
        elif value not in trait.values:
            raise SheetMistakeError(
                f"{name} can't be {value!r}{hint(value, trait.values)}; "
                f"it is one of {', '.join(trait.values)}"
            )
        self.traits[name] = value

    def _read_limit(self, values: list[str]) -> None:
        if len(values) != 2:
            raise SheetMistakeError("a limit has a place and a number: limit pool.dns 8")
        if values[0] not in LIMITS:
            raise SheetMistakeError(
                f"there is no limit {values[0]!r}; there are {', '.join(LIMITS)}"
            )
        self.limits[values[0]] = number(values[1])

    def _read_assume(self, values: list[str]) -> None:
        if values not in (["interface.enabled", "=", "yes"], ["interface.enabled", "=", "no"]):
            raise SheetMistakeError("an assumption is: assume interface.enabled = yes (or no)")
        self.assumed["interface", "enabled"] = values[2] == "yes"


HEADER_WORDS: Mapping[str, Callable[[HeaderReader, list[str]], None]] = {
    "sheet": HeaderReader._read_sheet,
    "about": HeaderReader._read_about,
    "file": HeaderReader._read_file,
    "codes": HeaderReader._read_codes,
    "bool": HeaderReader._read_bool,
    "quote": HeaderReader._read_quote,
    "bare": HeaderReader._read_bare,
    "undo": HeaderReader._read_undo,
    "list": HeaderReader._read_list,
    "names": HeaderReader._read_names,
    "mac": HeaderReader._read_mac,
    "form": HeaderReader._read_form,
    "words": HeaderReader._read_words,
    "duration": HeaderReader._read_duration,
    "moment": HeaderReader._read_moment,
    "journal": HeaderReader._read_journal,
    "trait": HeaderReader._read_trait,
    "limit": HeaderReader._read_limit,
    "assume": HeaderReader._read_assume,
}
"""What each word that a line of the header begins with sets."""

OF_PARTS = (
    "bool",
    "quote",
    "bare",
    "list",
    "mac",
    "form",
    "words",
    "duration",
    "moment",
    "journal",
)
"""Those that a part may say otherwise than the sheet's header."""

ONLY_OF_PARTS = ("journal",)

CLOSED_SETS: Mapping[str, Sequence[str]] = {
    "option.type": tuple(OPTION_KINDS),
    "lease.state": LEASE_STATES,
}
"""The values that a device may have words of its own for, by kind and field."""

_LAYOUT_WORDS = {**LAYOUT, **OF_ANY_TEXT}

SEVERAL = ("trait", "limit", "assume", "form", "duration")
"""Those that there may be several lines of."""


def _unknown_word(word: str) -> str:
    if word in HEADERS:
        return f"{word!r} is said by another word: {HEADERS[word]}"
    if word in TRAITS:
        return f"{word!r} is a trait: trait {word} VALUE"
    return f"{word!r} is not a header keyword{hint(word, (*HEADER_WORDS, *_LAYOUT_WORDS))}"
