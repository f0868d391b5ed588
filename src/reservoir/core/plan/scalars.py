"""The scalar types of the plan file: how each text is read, and what a schema says of it.

Every scalar reaches the schema as it was written. So ``no``, ``06:30`` and ``0755`` are what they
look like, and only the field that they are in decides what they mean.
"""

from __future__ import annotations

import datetime
import re
import zoneinfo
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Annotated, Any, TypeVar

from pydantic_core import CoreSchema, core_schema

from reservoir.core.values.addresses import (
    LAST_ADDRESS,
    MalformedValueError,
    Prefix,
    Span,
    bits_of_mask,
    format_address,
    parse_address,
    parse_prefix,
    parse_span,
)
from reservoir.core.values.client_classes import ANY
from reservoir.core.values.clients import Mac, parse_identifier, parse_mac
from reservoir.core.values.durations import format_duration, parse_duration
from reservoir.core.values.name_patterns import NamePattern, parse_name_pattern
from reservoir.core.wording import hint

Item = TypeVar("Item")


NONE = "none"
"""What a plan says where something is not to be, though a default has it."""


def shape_of(value: Any) -> str:
    """What a value is, in a reader's words."""
    if value is None:
        return "nothing"
    if isinstance(value, dict):
        return "a block of keys"
    return "a list" if isinstance(value, list | tuple) else repr(value)


@dataclass(frozen=True)
class Scalar:
    """Reads a scalar's text, lets values that are already read through, and describes both."""

    read: Callable[[str], Any]
    write: Callable[[Any], str]
    made: type
    what: str
    example: str
    pattern: str = ""
    """What the text looks like, for editors; reading it is stricter."""
    types: tuple[str, ...] = ("string",)
    """What editors take the text for, by JSON's names."""

    def __call__(self, value: Any) -> Any:
        """The value meant by ``value``. Raises MalformedValueError with what is wrong."""
        if isinstance(value, str):
            return self.read(value)
        if isinstance(value, self.made):
            return value
        raise MalformedValueError(f"expected {self.what}, found {shape_of(value)}")

    def __get_pydantic_core_schema__(self, source: Any, handler: Any) -> CoreSchema:
        return core_schema.no_info_plain_validator_function(
            self, serialization=core_schema.plain_serializer_function_ser_schema(self.write)
        )

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: Any) -> dict[str, Any]:
        pattern = {"pattern": f"^{self.pattern}$"} if self.pattern else {}
        return {
            "type": self.types[0] if len(self.types) == 1 else list(self.types),
            "description": f"{self.what}, like {self.example}",
            "examples": [self.example],
            **pattern,
        }


def or_none(scalar: Scalar, nothing: Any) -> Scalar:
    """A scalar that may be ``none``, which takes a default away; ``nothing`` stands for it."""

    def read(text: str) -> Any:
        if text == NONE:
            return nothing
        try:
            return scalar.read(text)
        except MalformedValueError as error:
            raise MalformedValueError(f"{error}{hint(text, (NONE,))}") from None

    def write(value: Any) -> str:
        return NONE if value == nothing else scalar.write(value)

    pattern = f"({scalar.pattern}|{NONE})" if scalar.pattern else ""
    return replace(scalar, read=read, write=write, what=f"{scalar.what}, or none", pattern=pattern)


def _read_share(text: str) -> float:
    number = re.fullmatch(r"([0-9]+(?:\.[0-9]+)?)%(?:/year)?", text)
    if number is None:
        raise MalformedValueError(f"{text!r} is not a percentage: write it like 20% or 10%/year")
    return float(number[1]) / 100


def _read_number(text: str) -> float:
    if not re.fullmatch(r"[0-9]{1,9}(?:\.[0-9]{1,9})?", text):
        raise MalformedValueError(f"{text!r} is not a number: write it like 0.8")
    return float(text)


def _read_horizon(text: str) -> float:
    number = re.fullmatch(r"([0-9]+(?:\.[0-9]+)?) (month|year)s?", text)
    if number is None:
        raise MalformedValueError(f"{text!r} is not a horizon: write it like 2 years or 18 months")
    return float(number[1]) / (12 if number[2] == "month" else 1)


def _read_date(text: str) -> datetime.date:
    try:
        return datetime.date.fromisoformat(text)
    except ValueError:
        raise MalformedValueError(f"{text!r} is not a date: write it like 2027-03-31") from None


def _read_word(text: str) -> str:
    if not text.strip() or not text.isprintable():
        raise MalformedValueError(f"expected a name, found {text!r}")
    return text


def _read_label(text: str) -> str:
    if not text.isprintable():
        raise MalformedValueError(f"{text!r} has invisible characters; remove them")
    return text


def _read_clock(text: str) -> int:
    clock = re.fullmatch("([0-9]{1,2}):([0-9]{2})", text)
    if clock is None or int(clock[1]) * 60 + int(clock[2]) > 24 * 60 or int(clock[2]) > 59:
        raise MalformedValueError(f"{text!r} is not a time of day: write it like 06:30")
    return (int(clock[1]) * 60 + int(clock[2])) * 60


def _write_clock(seconds: int) -> str:
    return f"{seconds // 3600:02}:{seconds // 60 % 60:02}"


def _read_hours(text: str) -> tuple[int, int]:
    first, dash, last = text.partition("-")
    begin, end = (_read_clock(first.strip()), _read_clock(last.strip())) if dash else (0, 0)
    if begin == end:
        raise MalformedValueError(f"{text!r} is not a time span: write it like 08:00-20:00")
    return begin, end if end > begin else end + _DAY


_DAY = 86_400
"""Seconds."""


def _write_hours(hours: tuple[int, int]) -> str:
    begin, end = hours
    return f"{_write_clock(begin)}-{_write_clock(end if end <= _DAY else end - _DAY)}"


def _read_zone(text: str) -> str:
    if text != "UTC" and text not in zoneinfo.available_timezones():
        near = hint(text, sorted(zoneinfo.available_timezones()))
        raise MalformedValueError(f"{text!r} is not a time zone, like Europe/Lisbon{near}")
    return text


def _read_rate(text: str) -> float:
    number = re.fullmatch(r"([0-9]+(?:\.[0-9]+)?)/(h|day)", text)
    if number is None:
        raise MalformedValueError(f"{text!r} is not a rate: write it like 40/h or 300/day")
    return float(number[1]) / (3600 if number[2] == "h" else 86_400)


def _write_share(share: float) -> str:
    return f"{share * 100:.10g}%"


def _write_horizon(years: float) -> str:
    return f"{years:.10g} years" if years % 1 == 0 else f"{years * 12:.10g} months"


def _write_identifier(identifier: bytes) -> str:
    return f"hex:{identifier.hex()}"


def _read_prefix(text: str) -> Prefix:
    """``10.84.20.0/22``, or with the mask that some prefer to the length."""
    address, mask = _divided(text, "[/ ]")
    if "." not in mask:
        return parse_prefix(text)
    return Prefix(parse_address(address), bits_of_mask(parse_address(mask)))


def _read_span(text: str) -> Span:
    """A range in full, with the end cut to its last one or two octets, or as first and count."""
    if "/" in text:
        return _read_prefix(text).span
    start, count = _divided(text, r"\+")
    if count:
        return _counted(parse_address(start), count, text)
    start, end = _divided(text, "-")
    if end and end.count(".") < 2:  # the octets before are those of the start
        end = ".".join([*start.split(".")[: 3 - end.count(".")], end])
    return parse_span(f"{start}-{end}" if end else text)


def _counted(first: int, count: str, text: str) -> Span:
    if not re.fullmatch("[1-9][0-9]{0,9}", count) or first + int(count) - 1 > LAST_ADDRESS:
        raise MalformedValueError(
            f"{text!r} is not a range: {count!r} is not a number of addresses from there on"
        )
    return Span(first, first + int(count) - 1)


def _divided(text: str, sign: str) -> tuple[str, str]:
    """What stands before and after the first sign, without the blanks around it."""
    before, *after = re.split(f" *{sign} *", text.strip(" "), maxsplit=1)
    return before, "".join(after)


_QUAD = r"[0-9]{1,3}(\.[0-9]{1,3}){3}"
_CIDR = f"{_QUAD}(/[0-9]{{1,2}}|( */ *| +){_QUAD})"
_SPAN = rf"({_QUAD}( *- *([0-9]{{1,3}}\.)?[0-9]{{1,3}}| *- *{_QUAD}| *\+ *[0-9]+)?|{_CIDR})"

_ADDRESS = Scalar(parse_address, format_address, int, "an IPv4 address", "10.84.20.1", _QUAD)
_DURATION = Scalar(parse_duration, format_duration, int, "a duration", "1d12h")
_WORD = Scalar(_read_word, str, str, "a name", "pier-router")

AddressText = Annotated[int, _ADDRESS]
GatewayText = Annotated[int | None, or_none(_ADDRESS, None)]
AddressOrNoneText = Annotated[int, or_none(_ADDRESS, 0)]
PrefixText = Annotated[
    Prefix,
    Scalar(_read_prefix, str, Prefix, "an address with prefix length", "10.84.20.0/22", _CIDR),
]
SpanText = Annotated[
    Span, Scalar(_read_span, str, Span, "a range", "10.84.20.20-10.84.23.250", _SPAN)
]
MacText = Annotated[Mac, Scalar(parse_mac, str, Mac, "a MAC address", "00:00:5e:00:53:01")]
ClientIdText = Annotated[
    bytes,
    Scalar(parse_identifier, _write_identifier, bytes, "a client identifier", "hex:01a2b3c4"),
]
DurationText = Annotated[int, _DURATION]
DurationOrNoneText = Annotated[int, or_none(_DURATION, 0)]
ShareText = Annotated[float, Scalar(_read_share, _write_share, float, "a percentage", "20%")]
NumberText = Annotated[
    float,
    Scalar(
        _read_number, lambda n: f"{n:.10g}", float, "a number", "0.8", types=("string", "number")
    ),
]
HorizonText = Annotated[
    float, Scalar(_read_horizon, _write_horizon, float, "a time span", "2 years")
]
DateText = Annotated[datetime.date, Scalar(_read_date, str, datetime.date, "a date", "2027-03-31")]
WordText = Annotated[str, _WORD]
WordOrNoneText = Annotated[str, or_none(_WORD, "")]
ClockText = Annotated[int, Scalar(_read_clock, _write_clock, int, "a time of day", "06:30")]
"""Seconds from midnight."""
HoursText = Annotated[
    tuple[int, int],
    Scalar(_read_hours, _write_hours, tuple, "hours", "08:00-20:00"),
]
"""From and to, in seconds from midnight; to is later, where need be on the next day."""
RateText = Annotated[
    float, Scalar(_read_rate, lambda r: f"{r * 3600:.10g}/h", float, "a rate", "40/h")
]
"""Arrivals a second."""
ZoneText = Annotated[
    str, Scalar(_read_zone, str, str, "a time zone of the IANA database", "Europe/Lisbon")
]
PatternText = Annotated[
    NamePattern,
    Scalar(
        parse_name_pattern, lambda p: p.pattern, NamePattern, "a regular expression", "[a-z0-9-]+"
    ),
]
LabelText = Annotated[str, Scalar(_read_label, str, str, "a text", "ticket printers")]


def _read_wildcard(text: str) -> str:
    if not text.strip() or not text.isprintable():
        raise MalformedValueError(f"expected a text, found {text!r}")
    if ANY in text[1:-1]:
        raise MalformedValueError(f"{text!r} has a {ANY} inside; it stands at an end only")
    return text


def _read_mac_beginning(text: str) -> bytes:
    bare = text.removesuffix(ANY).rstrip(":-. ")
    digits = re.sub("[:. -]", "", bare)
    is_whole = len(digits) == 12
    if not re.fullmatch("(?:[0-9A-Fa-f]{2}){1,6}", digits) or (not is_whole and ANY not in text):
        raise MalformedValueError(
            f"{text!r} is not the beginning of a MAC address: write it like 00:00:5e:{ANY}"
        )
    return bytes.fromhex(digits)


def _write_mac_beginning(beginning: bytes) -> str:
    return beginning.hex(":") + (f":{ANY}" if len(beginning) < 6 else "")


def _read_architecture(text: str) -> int:
    if not re.fullmatch("[0-9]{1,5}", text) or int(text) > 0xFFFF:
        raise MalformedValueError(f"{text!r} is not an architecture: a number from 0 to 65535")
    return int(text)


WildcardText = Annotated[
    str, Scalar(_read_wildcard, str, str, f"a text, perhaps with {ANY} at an end", "harbour-*")
]
MacBeginningText = Annotated[
    bytes,
    Scalar(
        _read_mac_beginning,
        _write_mac_beginning,
        bytes,
        "the beginning of a MAC address",
        f"00:00:5e:{ANY}",
    ),
]
ArchitectureText = Annotated[
    int,
    Scalar(
        _read_architecture,
        str,
        int,
        "an architecture's number (RFC 4578)",
        "7",
        types=("string", "integer"),
    ),
]


READERS: Mapping[str, Callable[[str], Any]] = {
    "address": parse_address,
    "duration": parse_duration,
    "range": _read_span,
    "subnet": _read_prefix,
    "zone": _read_zone,
    "hostname": _read_word,
    "boot_file": or_none(_WORD, "").read,
    "next_server": or_none(_ADDRESS, 0).read,
    "lease": or_none(_DURATION, 0).read,
}
"""How texts of some kinds are read, for those who meet them outside of a plan file."""


@dataclass(frozen=True)
class ShortForm:
    """Lets a single text stand for a list or a block; the schema says so too."""

    lengthen: Callable[[Any], Any]
    stands: tuple[type, ...] = (str,)
    """What may stand for the long form."""
    words: tuple[str, ...] = ()
    """Words that may stand for it too."""

    def __call__(self, value: Any) -> Any:
        """The long form of a value that stands for it; anything else as it is."""
        return self.lengthen(value) if isinstance(value, self.stands) else value

    def __get_pydantic_core_schema__(self, source: Any, handler: Any) -> CoreSchema:
        return core_schema.no_info_before_validator_function(self, handler(source))

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: Any) -> dict[str, Any]:
        long = handler(schema)
        words = [{"const": word} for word in self.words]
        return {"anyOf": [long.get("items", {"type": "string"}), long, *words]}


def _one_item(value: Any) -> tuple[Any]:
    return (value,)


def _one_item_or_none(value: Any) -> tuple[Any, ...]:
    return () if value == NONE else (value,)


ListOf = Annotated[tuple[Item, ...], ShortForm(_one_item, (str, dict))]
"""A list; a single value may stand without its dash."""

ListOrNoneOf = Annotated[tuple[Item, ...], ShortForm(_one_item_or_none, (str, dict), (NONE,))]
"""The same, where `none` stands for an empty list."""
