"""What a new network is asked, in the order in which engineers think, and what was answered."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from reservoir.core.plan.scalars import READERS
from reservoir.core.values.addresses import MalformedValueError, Prefix, Span
from reservoir.core.values.durations import format_duration

NONE = "none"
"""The answer that there is nothing of the kind."""

Answers = dict[str, Any]
"""Answers by the names of the questions; a question that wasn't answered is missing."""


class Kept(NamedTuple):
    """Addresses that are kept for machines with static addresses."""

    first: int = 0
    """So many host addresses at the beginning of the subnet."""
    last: int = 0
    """So many at its end."""
    spans: tuple[Span, ...] = ()
    """And these."""

    def within(self, subnet: Prefix) -> list[Span]:
        """The addresses in a subnet."""
        hosts = subnet.hosts
        found = [Span(hosts.first, hosts.first + self.first - 1)] if self.first else []
        found += [Span(hosts.last - self.last + 1, hosts.last)] if self.last else []
        return [*found, *self.spans]

    def __str__(self) -> str:
        counts = [("first", self.first), ("last", self.last)]
        parts = [f"{word} {count}" for word, count in counts if count]
        return ", ".join([*parts, *map(str, self.spans)]) or NONE


def _name(text: str) -> str:
    if not text.strip() or not text.isprintable():
        raise MalformedValueError(f"expected a name, found {text!r}")
    return text.strip()


def _network_name(text: str) -> str:
    if re.fullmatch("[0-9]+([.][0-9]+)+(/[0-9.]*)?", text.strip()):
        raise MalformedValueError(f"{text.strip()} is an address, and names are for what it is for")
    return _name(text)


def _vlan(text: str) -> int | None:
    if text == NONE:
        return None
    if not re.fullmatch("[0-9]{1,4}", text) or not 1 <= int(text) <= 4094:
        raise MalformedValueError(f"{text!r} is not a VLAN tag: write one from 1 to 4094, or none")
    return int(text)


def _clients(text: str) -> int | None:
    if text == NONE:
        return None
    if not re.fullmatch("[0-9]{1,7}", text):
        raise MalformedValueError(f"{text!r} is not a number of clients: write it like 40, or none")
    return int(text)


def _gateway(text: str) -> int | None:
    return None if text == NONE else int(READERS["address"](text))


def _kept(text: str) -> Kept:
    if text == NONE:
        return Kept()
    counts, spans = {"first": 0, "last": 0}, list[Span]()
    for part in _parts(text):
        count = re.fullmatch("(?:(first|last) )?([0-9]{1,7})", part)
        try:
            if count is None:
                spans.append(READERS["range"](part))
            else:
                counts[count[1] or "first"] = int(count[2])
        except MalformedValueError:
            raise MalformedValueError(
                f"{part!r} doesn't say what is kept: write it like first 10, last 5, "
                "10.84.20.2-10.84.20.19, or none"
            ) from None
    return Kept(counts["first"], counts["last"], tuple(spans))


def _ranges(text: str) -> list[Span]:
    return [] if text == NONE else [READERS["range"](part) for part in _parts(text)]


def _dns(text: str) -> list[int]:
    return [] if text == NONE else [READERS["address"](part) for part in _parts(text)]


def _parts(text: str) -> list[str]:
    parts = re.split("[,;]|(?<!first)(?<!last) (?=[0-9])", text)
    return [part.strip() for part in parts if part.strip()]


def _word_or_none(text: str) -> str | None:
    return None if text == NONE else _name(text)


@dataclass(frozen=True)
class Question:
    """One thing that is asked of a new network."""

    name: str
    """Its option, and its column in a table."""
    asks: str
    """The question."""
    read: Callable[[str], Any]
    """Makes a value of the answer's text. Raises MalformedValueError."""
    write: Callable[[Any], str] = str
    example: str = ""
    leads: bool = False
    """Whether nothing after it can be suggested without its answer."""
    may_be_none: bool = False
    """Whether a network may have nothing of the kind."""


QUESTIONS = (
    Question("network", "What is the network called?", _network_name, example="crew"),
    Question("device", "Which device is its interface on?", _name, example="pier-router",
             leads=True),
    Question("dialect", "Which dialect is that device configured in?", _word_or_none,
             lambda dialect: dialect or NONE),
    Question("vlan", "Which VLAN tag does it have?", _vlan, lambda tag: str(tag or NONE), "30",
             may_be_none=True),
    Question("interface", "Which interface is it on?", _name, example="deck.30"),
    Question("subnet", "Which subnet?", READERS["subnet"], example="10.84.30.0/24"),
    Question("gateway", "Which address is the gateway?", _gateway,
             lambda address: NONE if address is None else str(Span(address, address)),
             "10.84.30.1", may_be_none=True),
    Question("keep", "What is kept for static addresses?", _kept, example="first 10",
             may_be_none=True),
    Question("range", "From where to where are addresses assigned?", _ranges,
             lambda spans: ", ".join(map(str, spans)) or NONE, "10.84.30.20-10.84.30.250",
             may_be_none=True),
    Question("server", "Which device assigns them?", _name, example="harbour-office"),
    Question("dns", "Which DNS servers are offered?", _dns,
             lambda servers: ", ".join(str(Span(a, a)) for a in servers) or NONE, "10.84.0.53",
             may_be_none=True),
    Question("domain", "Which domain?", _word_or_none, lambda name: name or NONE, "sable.example",
             may_be_none=True),
    Question("lease", "How long are leases?", READERS["duration"], format_duration, "12h"),
    Question("clients", "How many clients are expected?", _clients,
             lambda count: NONE if count is None else str(count), "90", may_be_none=True),
)  # fmt: skip
"""In the order in which engineers think."""

BY_NAME: Mapping[str, Question] = {question.name: question for question in QUESTIONS}
