"""Reads the header of a sheet: words and values, one a line."""

from __future__ import annotations

import re
import shlex
import warnings
from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from typing import Any

from reservoir.core.problems import Place, Problem
from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.durations import parse_duration
from reservoir.core.values.options import KINDS as OPTION_KINDS
from reservoir.core.wording import hint
from reservoir.dialects.forms.durations import DurationForm
from reservoir.dialects.forms.form import Form
from reservoir.dialects.forms.plain import (
    ADDRESS,
    HEX,
    IDENTIFIER,
    NUMBER,
    OPTION_CODE,
    PREFIX,
    VLAN,
    GroupedBytes,
    MacForm,
    beginning_of,
    codes_except,
    either,
)
from reservoir.dialects.forms.texts import EscapedBytes, ListOf, Rest, Text
from reservoir.dialects.forms.words import OwnWords
from reservoir.dialects.notations.nodes import Notation, Undo
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

    def take(self, number: int, line: str) -> None:
        """Read one line of the header."""
        if not line.strip() or line.startswith("#"):
            return None
        try:
            words = shlex.split(line)
        except ValueError:
            return self._mistake(number, "a quotation mark is missing")
        word, values = words[0], words[1:]
        of_layout = _LAYOUT_WORDS.get(word)
        reader = HEADER_WORDS.get(word)
        if reader is None and of_layout is None:
            if word in HEADERS:
                return self._mistake(number, f"{word!r} is said by another word: {HEADERS[word]}")
            if word in TRAITS:
                return self._mistake(number, f"{word!r} is a trait: trait {word} VALUE")
            near = hint(word, (*HEADER_WORDS, *_LAYOUT_WORDS))
            return self._mistake(number, f"{word!r} is not a header keyword{near}")
        if word not in SEVERAL and word in self.seen:
            return self._mistake(number, f"{word} is already set in line {self.seen[word]}")
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

    def finish(self, number: int) -> None:
        """Look for what is missing."""
        if "sheet" not in self.seen:
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
        self.text = replace(self.text, bare=_characters(only(values, "a set of characters")))

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
            number(pairs.get("longest", "0")), _characters(pairs.get("characters", ""))
        )

    def _read_mac(self, values: list[str]) -> None:
        self.mac = _mac_form(values)

    def _read_form(self, values: list[str]) -> None:
        name, sign, of, *rest = [*values, "", "", ""][: max(3, len(values))]
        if sign != "=" or of not in ("mac", "bytes"):
            raise SheetMistakeError(
                'a form is like: form clientid = mac prefix "01." group 6 sep ".", '
                'form escaped = bytes escape "%", or: form grouped = bytes group 4 sep "."'
            )
        if of == "mac":
            self.named[name] = ("mac", _mac_form(rest))
        elif rest[:1] == ["escape"]:
            pairs = pairs_of(rest, "bytes", ("escape",))
            self.named[name] = ("bytes", EscapedBytes(pairs["escape"]))
        else:
            self.named[name] = ("bytes", _grouped_bytes(rest))

    def _read_words(self, values: list[str]) -> None:
        if values[:1] != ["option.type"] or not values[1:]:
            raise SheetMistakeError(
                'words are the device\'s own for a closed set: words option.type text="ascii"'
            )
        words: dict[str, str] = {}
        for pair in values[1:]:
            value, sign, word = pair.partition("=")
            if value not in OPTION_KINDS:
                there = f"{hint(value, OPTION_KINDS)}; there are {', '.join(OPTION_KINDS)}"
                raise SheetMistakeError(f"there is no type {value!r}{there}")
            if not sign or not word or word in words.values() or value in words:
                raise SheetMistakeError(f"each type has one word of its own, not {pair!r}")
            words[value] = word
        self.of_fields["option", "type"] = OwnWords(words)

    def _read_duration(self, values: list[str]) -> None:
        name = values[0] if values and values[0] in ("lease", "longest") else ""
        if ("pool", name or "lease") in self.of_fields:
            raise SheetMistakeError(f"the duration of {name or 'lease'} is already set")
        form = _duration_form(values[bool(name) :])
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
    "trait": HeaderReader._read_trait,
    "limit": HeaderReader._read_limit,
    "assume": HeaderReader._read_assume,
}
"""What each word that a line of the header begins with sets."""

_LAYOUT_WORDS = {**LAYOUT, **OF_ANY_TEXT}

SEVERAL = ("trait", "limit", "assume", "form", "duration")
"""Those that there may be several lines of."""


def _characters(text: str) -> str:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", FutureWarning)  # a set that later means something else
            re.compile(f"[{text}]" if text else "")
    except (re.error, FutureWarning):
        raise SheetMistakeError(f"{text!r} is not a set of characters, like A-Za-z0-9_-") from None
    return text


def _duration_form(values: list[str]) -> DurationForm:
    if values[1:] and "{" in values[0] and values[1] not in ("infinite", "also"):
        raise SheetMistakeError('a lease time with blanks in it is in quotes: duration "{m} min"')
    pairs = pairs_of(values[1:], "duration", ("infinite", "also"))
    form = DurationForm(
        values[0] if values else "", pairs.get("infinite", ""), pairs.get("also", "")
    )
    every = [form, *([DurationForm(pairs["also"])] if "also" in pairs else [])]
    if not all(form.units and form.parts for form in every):
        raise SheetMistakeError(
            'a duration has units in it, such as "{d} days {h} hours": {w} {d} {h} {m} {s} {ms}'
        )
    return form


def _grouped_bytes(values: list[str]) -> GroupedBytes:
    pairs = pairs_of(values, "bytes", ("group", "sep", "prefix", "case"))
    group = number(pairs.get("group", "2"))
    if not group or group % 2:
        raise SheetMistakeError("bytes have groups of 2, 4, 6 … digits")
    return GroupedBytes(
        group, pairs.get("sep", ""), pairs.get("prefix", ""), pairs.get("case") == "upper"
    )


def _mac_form(values: list[str]) -> MacForm:
    pairs = pairs_of(values, "mac", ("group", "sep", "prefix", "type", "case"))
    hardware = pairs.get("type", "")
    if not re.fullmatch("([0-9a-f]{2})*", hardware):
        raise SheetMistakeError('a hardware type is two digits or four, like: type "01"')
    group = number(pairs.get("group", "2"))
    if group not in (2, 4, 6, 12):
        raise SheetMistakeError("a MAC address has groups of 2, 4, 6 or 12 digits")
    return MacForm(
        group,
        pairs.get("sep", ""),
        pairs.get("prefix", ""),
        pairs.get("case") == "upper",
        hardware,
    )
