"""Phrases that messages have in common."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import lru_cache


def shown(text: str) -> str:
    """A text as it may be shown: without characters that a terminal would obey.

    Line ends and tabs stay; control characters, and those that turn the direction of writing, are
    written as their numbers.
    """
    if text.isprintable():
        return text
    return "".join(
        char if char.isprintable() or char in "\n\t" else char.encode("unicode_escape").decode()
        for char in text
    )


def listed(items: Iterable[object]) -> str:
    """Things as a sentence lists them: ``a``, ``a and b``, ``a, b and c``."""
    *before, last = map(str, items)
    return f"{', '.join(before)} and {last}" if before else last


_PLURALS = {
    "piece of advice": "pieces of advice",
    "address": "addresses",
    "assignable address": "assignable addresses",
}


def listed_briefly(items: Iterable[object], most: int = 4) -> str:
    """A list in a sentence, of which the first are named: ``a, b, c, d and 12 more``."""
    every = list(items)
    if len(every) <= most:
        return listed(every)
    return f"{', '.join(map(str, every[:most]))} and {len(every) - most:,} more"


def counted(number: int, noun: str) -> str:
    """A number of things: ``1 address``, ``1,005 addresses``."""
    return f"1 {noun}" if number == 1 else f"{number:,} {_PLURALS.get(noun, f'{noun}s')}"


def in_more(number: int, noun: str, subject: str) -> str:
    """The end of a message on an address: ``, which is in 3 more ranges``; nothing for 0."""
    return f"{subject} is in {counted(number, f'more {noun}')}" if number else ""


def be(number: int) -> str:
    """The verb for a number of things: ``is`` or ``are``."""
    return "is" if number == 1 else "are"


MANY = 200
"""Words among which a similar one is looked for at most; of more, one that is a slip away."""


def nearest(word: str, known: Iterable[str]) -> str | None:
    """The known word that was most likely meant, if one is similar."""
    return _nearest(word, tuple(known))


@lru_cache(maxsize=4096)  # a file that is foreign asks about a few words on all of its lines
def _nearest(word: str, known: tuple[str, ...]) -> str | None:
    if len(known) > MANY:
        slips = _by_slip(known)
        known = tuple(dict.fromkeys(one for slip in _slips(word) for one in slips.get(slip, ())))
    close = difflib.get_close_matches(word, known, n=1, cutoff=0.6)
    return close[0] if close else None


@lru_cache(maxsize=8)
def _by_slip(known: tuple[str, ...]) -> Mapping[str, Sequence[str]]:
    """Known words by each text that a lost letter makes of them, and by themselves."""
    found: dict[str, list[str]] = {}
    for word in known:
        for slip in _slips(word):
            found.setdefault(slip, []).append(word)
    return found


def _slips(word: str) -> Iterator[str]:
    """The word, and what is left when a letter is lost.

    Two words that are a wrong, lost, added or swapped letter apart have one of these in common.
    """
    yield word
    places = range(min(len(word), LONGEST))
    yield from dict.fromkeys(word[:place] + word[place + 1 :] for place in places)


LONGEST = 100
"""Letters of a word in which a slip is looked for."""


def hint(word: str, known: Iterable[str]) -> str:
    """A closing `` (did you mean …?)``, or nothing."""
    near = nearest(word, known)
    return f" (did you mean {near}?)" if near else ""
