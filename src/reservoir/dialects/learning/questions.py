"""What a sample leaves in doubt: questions, each about a line of it and answered by one word.

The first of the words is taken unless another is answered.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from reservoir.dialects.learning.explaining import Field
from reservoir.dialects.learning.rows import DraftRow

NOTHING = "nothing"
"""The answer that a line says nothing that matters here."""

MOST = 10
"""Questions that are asked at most; what else is in doubt is only remarked."""

_SWITCHES = {"device": ("service",), "interface": ("service", "enabled"), "pool": ("active",)}
"""What a line without a value may turn on, by the kind of fact that it is in."""

_THINGS = {
    "service": "the DHCP service",
    "active": "the pool",
    "enabled": "the interface",
    "probe": "probing",
    "own_timezone": "the time zone",
    "leads": "the lead in its pair",
}

_ON = re.compile(r"(?i)(?:^|[ =:\"])(?:yes|on|true|enabled?|start|open|active|live|ready|up|1)\W*$")


Taker = Callable[[str], None]
"""Takes an answer; an empty one is what is taken unless another is given."""


@dataclass(frozen=True)
class Question:
    """A line of which it is in doubt what it says."""

    line: int
    """In the sample."""
    text: str
    choices: tuple[str, ...]
    """What it may be; the first is taken unless another is answered."""
    turns: str = "on"
    """What it does with a switch, if it is about one."""

    @property
    def asks(self) -> str:
        """The question in words."""
        if self.yes == "leads":
            place = "first" if self.turns == "on" else "second"
            return f"line {self.line}, {self.text!r}: does it make this the {place} of its pair?"
        things = [_THINGS[choice] for choice in self.choices if choice in _THINGS]
        about = f"does it turn {' or '.join(things)} {self.turns}" if things else (
            f"is it {' or '.join(self.choices)}"
        )  # fmt: skip
        return f"line {self.line}, {self.text!r}: {about}?"

    @property
    def yes(self) -> str:
        """What is answered by yes; empty if it isn't answered by yes or no."""
        others = [choice for choice in self.choices if choice != NOTHING]
        return others[0] if NOTHING in self.choices and len(others) == 1 else ""

    @property
    def taken(self) -> str:
        """What is taken as the answer, and how to give another."""
        first, *others = self.choices
        said = ("no" if first == NOTHING else "yes") if NOTHING in self.choices else first
        return f"Taken: {said}; else --answer {self.line}={' or '.join(others)}"


class Settled(NamedTuple):
    """What is still in doubt once somebody has answered."""

    questions: tuple[Question, ...]
    in_vain: tuple[str, ...]
    """Why answers answer nothing."""


def settle(rows: Sequence[DraftRow], answers: Mapping[int, str]) -> Settled:
    """Settle what is in doubt by the answers to it.

    Args:
        rows: All of a draft; those in doubt are changed.
        answers: A word for a line of the sample.
    """
    asked: list[Question] = []
    choices: dict[int, tuple[str, ...]] = {}
    every = [inner for outer in rows for inner in outer.walk()]
    beside = [inner for outer in rows if _holds_pool(outer) for inner in outer.rows]
    beside += rows if any(row.kind == "pool" for row in rows) else []
    known = _Known(
        {row.statements[0].node.text for row in every if row.margin == "? service=yes"},
        {row.statements[0].node.text for row in beside},
    )
    for row in every:
        for question, take in [*_fields(row), *_switch(row, known)]:
            choices |= dict.fromkeys(row.lines, question.choices)
            answer = next((answers[line] for line in row.lines if line in answers), "")
            take(answer if answer in question.choices else "")
            if answer not in question.choices:
                asked.append(question)
    return Settled(tuple(asked[:MOST]), tuple(_in_vain(answers, choices)))


def _in_vain(answers: Mapping[int, str], choices: Mapping[int, tuple[str, ...]]) -> Iterator[str]:
    for line, word in answers.items():
        if line not in choices:
            yield f"nothing is asked about line {line}"
        elif word not in choices[line]:
            yield f"line {line} is {' or '.join(choices[line])}, not {word!r}"


class _Known(NamedTuple):
    """What is known of the texts of lines without a value."""

    turning_on: set[str]
    """Those that turn the service on at an interface."""
    beside_pools: set[str]
    """Those that stand beside pools, in what holds these."""


def _holds_pool(row: DraftRow) -> bool:
    return not row.kind and any(inner.kind == "pool" for inner in row.walk())


def _fields(row: DraftRow) -> Iterator[tuple[Question, Taker]]:
    """The words of a row that may be for several fields."""
    for at, element in enumerate(row.elements):
        if isinstance(element, str) or len(element) == 1:
            continue

        def take(answer: str, at: int = at, choices: tuple[Field, ...] = element) -> None:
            row.elements[at] = (Field(answer) if answer else choices[0],)
            if not answer:
                row.doubts.append(" or ".join(choices))

        yield Question(row.lines[0], row.statements[0].node.text, tuple(element)), take


def _switch(row: DraftRow, known: _Known) -> Iterator[tuple[Question, Taker]]:
    """A statement without a value that may turn something on."""
    text, kind = row.statements[0].node.text, row.statements[0].owner.kind
    if row.slots or row.kind or row.rows or kind not in _SWITCHES:
        return
    name = row.margin.removeprefix("? ").partition("=")[0]
    choices: tuple[str, ...]
    if name:
        choices = (name, NOTHING)
    elif kind == "device":
        has_value = any(word.is_sure for word in row.statements[0].words)
        if not row.is_left or has_value or not _is_about_dhcp(text, known):
            return
        is_same = text in known.turning_on
        choices = ("service", NOTHING) if is_same else (NOTHING, "service")
    elif _ON.search(text) and not row.is_left:
        choices = (NOTHING, *_SWITCHES[kind])
    else:
        return

    def take(answer: str) -> None:
        chosen = answer or choices[0]
        if chosen == NOTHING:
            row.is_left, row.margin = row.is_left or bool(name), ""
        elif chosen != name:
            row.is_left, row.margin = False, f"? {chosen}=yes"
        if answer:
            row.doubts.clear()
        elif chosen == NOTHING:
            row.doubts.append(f"it may turn {_THINGS[choices[1]]} on")
        elif chosen != name:
            row.doubts.append(f"it may not turn {_THINGS[chosen]} on")

    turns = "off" if row.margin.endswith("=no") else "on"
    yield Question(row.lines[0], text, choices, turns), take


def _is_about_dhcp(text: str, known: _Known) -> bool:
    """Whether a line has a word for DHCP or pools, or turns something on beside these."""
    words = set(re.findall("[a-z]+", text.lower()))
    if words & {"dhcp", "lease", "leases", "pool", "pools"}:
        return True
    return text in known.beside_pools and _ON.search(text) is not None
