"""What the words of a configuration may mean: values that a plan has, in the forms they take."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, NamedTuple

from reservoir.core.values.addresses import Prefix, address_or_none, mask_of
from reservoir.core.values.clients import Mac
from reservoir.core.values.durations import UNIT_SECONDS, UNIT_WORDS
from reservoir.dialects.facts.kinds import ITEMS, KINDS
from reservoir.dialects.learning.entered import Known

_UNSURE_PARTS = frozenset({"mask", "inverted", "bits", "host"})
_UNSURE_FIELDS = frozenset({"vlan", "code", "count", "offset", "type", "admits", "architecture"})
"""Fields whose values are small numbers, or words that stand elsewhere too."""


class Meaning(NamedTuple):
    """What a word may say: a field of a fact."""

    fact: Known
    field: str
    part: str = ""
    """The part of the value, as in a slot: ``ip``, ``mask``, ``bits``, ``inverted``."""

    @property
    def is_sure(self) -> bool:
        """Whether the word says it by itself, and isn't just one of the many small numbers."""
        return self.part not in _UNSURE_PARTS and self.field not in _UNSURE_FIELDS


@dataclass
class Word:
    """A piece of a statement's text: literal, or with meanings."""

    text: str
    """As it stands there."""
    meanings: tuple[Meaning, ...] = ()
    templates: tuple[str, ...] = ()
    """How a time may be written here: ``{h} hours``."""
    is_number: bool = False
    """Whether it is a number, whatever that says."""
    between: str = ""
    """What stands between the items of a list."""
    column: int = 0
    """From 0 in the text."""

    @property
    def is_sure(self) -> bool:
        """Whether it says something by itself, and is no number that may be any other."""
        return not self.is_number and any(meaning.is_sure for meaning in self.meanings)

    @property
    def is_value(self) -> bool:
        """Whether it may stand for something else elsewhere."""
        return bool(self.meanings) or self.is_number


@dataclass
class Meanings:
    """What each value that is known may mean."""

    facts: Sequence[Known]
    by_value: dict[tuple[str, Any], list[Meaning]] = field(default_factory=dict)
    texts: set[str] = field(default_factory=set)
    keeps_quotes: bool = False
    """Whether the signs around a text are the notation's, as in JSON and XML."""

    @classmethod
    def of(cls, facts: Sequence[Known], *, keeps_quotes: bool = False) -> Meanings:
        """All meanings of the fields of facts."""
        made = cls(facts, keeps_quotes=keeps_quotes)
        for fact in facts:
            for name, value in fact.fields.items():
                made._add(fact, name, KINDS[fact.kind].fields[name].type, value)
        return made

    def _add(self, fact: Known, name: str, its_type: str, value: Any) -> None:
        for key, part in _keys(its_type, value):
            if key[0] == "text":
                self.texts.add(key[1])
            said = self.by_value.setdefault(key, [])
            if (meaning := Meaning(fact, name, part)) not in said:
                said.append(meaning)
        pool = fact.pool
        if fact.kind == "range" and name == "first" and pool is not None and fact.is_planned:
            self._host(fact, "first", pool)
            self._host(fact, "last", pool)
        if fact.kind == "option" and name == "value":
            from_text = fact.fields["type"]
            if from_text in ("ip", "ips"):
                for item in str(value).split():
                    address = address_or_none(item)
                    if address is not None:
                        self.by_value.setdefault(("ip", address), []).append(Meaning(fact, "value"))

    def _host(self, fact: Known, name: str, pool: Known) -> None:
        number = fact.fields[name] - pool.fields["subnet"].subnet.address
        self.by_value.setdefault(("number", number), []).append(Meaning(fact, name, "host"))

    def words(self, text: str) -> list[Word]:
        """The words of a text, those that mean something with what they may mean."""
        words, at = list[Word](), 0
        for word in self._values(text, 0):
            if word.column > at:
                words.append(Word(text[at : word.column], column=at))
            words.append(word)
            at = word.column + len(word.text)
        if at < len(text):
            words.append(Word(text[at:], column=at))
        return _with_lists(_with_times(words, self._times))

    def _values(self, text: str, begin: int) -> Iterator[Word]:
        """The words with a meaning in a text that begins at a column."""
        for found in self._expression.finditer(text):
            word = self._word(found)
            if word is not None:
                word.column = begin + found.start() + found[0].index(word.text)
                yield word
            elif found.lastgroup == "quoted":
                yield from self._values(found[0][1:-1], begin + found.start() + 1)

    @cached_property
    def _times(self) -> Mapping[int, list[Meaning]]:
        return {key[1]: said for key, said in self.by_value.items() if key[0] == "time"}

    @cached_property
    def _expression(self) -> re.Pattern[str]:
        texts = "|".join(re.escape(text) for text in sorted(self.texts, key=len, reverse=True))
        return re.compile(_VALUES.replace("TEXTS", texts or "(?!)"))

    def _word(self, found: re.Match[str]) -> Word | None:
        kind, text = found.lastgroup or "", found[0]
        said: list[Meaning] = []
        if kind in ("quoted", "text"):
            said = self.by_value.get(("text", _unquoted(text)), [])
            if kind == "quoted" and (not said or self.keeps_quotes):
                inner = self._expression.fullmatch(text[1:-1])
                return self._word(inner) if inner is not None else None
            if not said:
                return None
        elif kind == "address":
            address, _, bits = text.partition("/")
            value = address_or_none(address)
            if value is not None:
                key = ("prefix", Prefix(value, int(bits))) if bits else ("ip", value)
                said = self.by_value.get(key, [])
        elif kind == "hex":
            digits = re.sub("[^0-9A-Fa-f]", "", text).lower()
            said = self.by_value.get(("hex", digits), []) or self._typed(digits)
            if not said and not text.isdigit():
                return None
        if kind in ("number", "hex") and not said and text.isdigit():
            said = self.by_value.get(("number", int(text)), [])
            return Word(text, tuple(said), is_number=True)
        return Word(text, tuple(said)) if said or kind == "address" else None

    def _typed(self, digits: str) -> list[Meaning]:
        """Hexadecimal digits as a MAC address behind its hardware type (RFC 2132 section 9.14)."""
        said = self.by_value.get(("hex", digits[2:]), []) if digits.startswith("01") else []
        return [meaning._replace(part="typed") for meaning in said]


_VALUES = r"""(?x)
  (?P<quoted>"(?:[^"\\]|\\.|"")*"|'(?:[^'\\]|\\.|'')*')
| (?P<address>(?<![0-9A-Za-z.])[0-9]{1,3}(?:\.[0-9]{1,3}){3}(?:/[0-9]{1,2})?(?![0-9A-Za-z]))
| (?P<text>(?<![0-9A-Za-z_])(?:TEXTS)(?![0-9A-Za-z_]|[.-][0-9A-Za-z_]))
| (?P<hex>(?<![0-9A-Za-z])(?:0x)?
    (?:[0-9A-Fa-f]{12,}|[0-9A-Fa-f]{1,6}(?:[:.-][0-9A-Fa-f]{1,6})+|[0-9A-Fa-f]{4,})(?![0-9A-Za-z]))
| (?P<number>(?<![0-9A-Za-z.])[0-9]+(?![0-9.]))
"""


def words_of(text: str) -> list[str]:
    """What stands between blanks and tabs; other signs are no blanks, whatever Unicode says."""
    return re.findall("[^ \t]+", text)


def _unquoted(text: str) -> str:
    if text[:1] not in ("'", '"') or len(text) < 2:
        return text
    inner = text[1:-1]
    return inner.replace(text[0] * 2, text[0]) if text[0] * 2 in inner else inner.replace("\\", "")


def _keys(its_type: str, value: Any) -> Iterator[tuple[tuple[str, Any], str]]:
    """How a value may be looked up, each with the part of it that is then said."""
    if its_type in ("ip", "ips"):
        for address in value if isinstance(value, tuple) else (value,):
            yield ("ip", address), ""
    elif its_type in ("prefix", "prefixes"):
        for prefix in value if not isinstance(value, Prefix) else (value,):
            yield ("prefix", prefix), ""
            yield ("ip", prefix.address), "ip"
            yield ("ip", mask_of(prefix.bits)), "mask"
            yield ("ip", 0xFFFFFFFF ^ mask_of(prefix.bits)), "inverted"
            yield ("number", prefix.bits), "bits"
    elif its_type in ("text", "texts", "moment"):  # a moment is known as it stands there
        for text in value if isinstance(value, tuple) else (value,):
            yield ("text", text), ""
    elif its_type == "mac":
        yield ("hex", f"{int(Mac(value)):012x}"), ""
    elif its_type in ("identifier", "bytes", "mac_beginning"):
        yield ("hex", value.hex()), ""
    elif its_type == "duration":
        yield ("time", value), ""
    elif its_type in ("vlan", "number", "numbers", "code"):
        for number in value if isinstance(value, tuple) else (value,):
            yield ("number", number), ""


_UNITS = f"{UNIT_WORDS}|ms"
_NAMED = re.compile(rf"(?i)({_UNITS})( )([0-9]+)")
_SPOKEN = re.compile(rf"(?i)([0-9]+)([ ]?)({_UNITS})(?![A-Za-z])")
_TIMES = (
    (re.compile(r"P(?=[0-9T])(?:[0-9]+D)?(?:T(?:[0-9]+H)?(?:[0-9]+M)?(?:[0-9]+S)?)?"), "iso"),
    (re.compile(rf"(?i)[0-9]+[ ]?(?:{_UNITS})(?:[ ]?[0-9]+[ ]?(?:{_UNITS}))*(?![A-Za-z])"), "said"),
    (re.compile(rf"(?i)\b(?:{_UNITS}) [0-9]+(?: (?:{_UNITS}) [0-9]+)*\b"), "named"),
    (re.compile(r"(?<![0-9:.])[0-9]+(?::[0-9]+){1,2}(?![0-9:.])"), "colon"),
    (re.compile(r"(?<![0-9:./])[0-9]+(?: [0-9]+){1,3}(?![0-9:./])"), "blanks"),
    (re.compile(r"(?<![0-9A-Za-z:.])[0-9]+(?![0-9A-Za-z:.])"), "bare"),
)
_ISO = "P[{d}D][T[{h}H][{m}M][{s}S]]"
_IN_ORDER = {
    1: ("{s}", "{m}", "{h}", "{d}"),
    2: ("{h} {m}", "{d} {h}", "{m} {s}"),
    3: ("{d} {h} {m}", "{h} {m} {s}"),
    4: ("{d} {h} {m} {s}",),
}
"""What bare numbers may count, by how many there are."""


def seconds_of(text: str, template: str) -> int:
    """How long a time is that is written by a template of units, with a number for each of them."""
    numbers = map(int, re.findall("[0-9]+", text))
    units = re.findall(r"\{(\w+)\}", template)
    return sum(n * UNIT_SECONDS.get(unit, 0) for n, unit in zip(numbers, units, strict=False))


def _templates(text: str, how: str) -> Iterable[tuple[int, str]]:
    """What a text may be as a time: seconds, and the template."""
    if how == "iso":
        total = sum(
            int(n) * UNIT_SECONDS[unit.lower()] for n, unit in re.findall("([0-9]+)([DHMS])", text)
        )
        return [(total, _ISO)]
    if how == "named":
        template = _NAMED.sub(lambda m: f"{m[1]} {{{_letter(m[1])}}}", text)
        return [(seconds_of(text, template), template)]
    if how == "said":
        template = _SPOKEN.sub(lambda m: f"{{{_letter(m[3])}}}{m[2]}{m[3]}", text)
        return [(seconds_of(text, template), template)]
    numbers = re.split("[: ]", text)
    signs = ":" if how == "colon" else " "
    made = [template.replace(" ", signs) for template in _IN_ORDER.get(len(numbers), ())]
    return [(seconds_of(text, template), template) for template in made]


def times_in(text: str) -> Iterator[int]:
    """The times that a text seems to say, in seconds: with units, or else as bare numbers."""
    taken: list[tuple[int, int]] = []
    for expression, how in _TIMES:
        if how in ("blanks", "bare") and taken:
            return
        for found in expression.finditer(text):
            at, end = found.span()
            if not any(at < stop and end > start for start, stop in taken):
                taken.append((at, end))
                yield next(iter(_templates(found[0], how)))[0]


def _letter(unit: str) -> str:
    return "ms" if unit == "ms" else unit[0].lower()


def _with_times(words: list[Word], times: Mapping[int, list[Meaning]]) -> list[Word]:
    """The words, those that are together a time that is known as one."""
    if not times:
        return words
    made: list[Word] = []
    text = "".join(word.text for word in words)
    taken: list[tuple[int, int, Word]] = []
    for expression, how in _TIMES:
        for found in expression.finditer(text):
            at, end = found.span()
            if any(at < stop and end > start for start, stop, _ in taken):
                continue
            ways = [(t, times[s]) for s, t in _templates(found[0], how) if s in times]
            inside = [w for w in words if w.column < end and w.column + len(w.text) > at]
            if ways and not any(m.is_sure for w in inside if w.is_value for m in w.meanings):
                said = tuple(dict.fromkeys(m for _, meanings in ways for m in meanings))
                number = (how == "bare" and inside and inside[0].meanings) or ()
                templates = tuple(template for template, _ in ways)
                word = Word(found[0], (*said, *number), templates, how == "bare", column=at)
                taken.append((at, end, word))
    if not taken:
        return words
    for word in words:
        made += _outside(word, taken)
    made += [word for _, _, word in taken]
    return sorted(made, key=lambda word: word.column)


def _outside(word: Word, taken: Sequence[tuple[int, int, Word]]) -> Iterator[Word]:
    """What of a word is outside of some stretches of the text."""
    begin, end = word.column, word.column + len(word.text)
    for start, stop, _ in sorted(taken, key=lambda each: each[0]):
        if stop <= begin or start >= end:
            continue
        if start > begin:
            yield Word(word.text[: start - word.column][begin - word.column :], column=begin)
        begin = stop
    if begin == word.column:
        yield word
    elif begin < end:
        yield Word(word.text[begin - word.column :], column=begin)


def _with_lists(words: list[Word]) -> list[Word]:
    """The words, those that are together the items of a list as one."""
    made: list[Word] = []
    for word in words:
        before = made[-2] if len(made) > 1 else None
        sign = made[-1].text if made else ""
        is_sign = _BETWEEN_ITEMS.fullmatch(sign)
        if before is not None and word.meanings and before.meanings and is_sign:
            both = [m for m in word.meanings if _is_list(m) and m in before.meanings]
            if both and before.between in ("", sign):
                text = before.text + sign + word.text
                made[-2:] = [Word(text, tuple(both), between=sign, column=before.column)]
                continue
        made.append(word)
    return made


_BETWEEN_ITEMS = re.compile(r"[ \t]*(?:[,;/&|+]|\band\b)?[ \t]*|\"?, ?\"?")
"""What stands between the items of a list; in JSON each has quotation signs of its own."""


def _is_list(meaning: Meaning) -> bool:
    its_type = KINDS[meaning.fact.kind].fields[meaning.field].type
    return its_type in ITEMS or (meaning.field == "value" and meaning.fact.fields["type"] == "ips")
