"""Which fact each statement of a sample is about, and which field each of its words says."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import chain

from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.learning.entered import Known
from reservoir.dialects.learning.meanings import Meaning, Meanings, Word, words_of
from reservoir.dialects.notations.nodes import Node

NUMBER = "#"
"""Stands for a number that only counts."""

_ADDED = 0.9
_TIE = 0.05

_NEEDED: Mapping[str, tuple[frozenset[str], ...]] = {
    "interface": (frozenset({"name"}),),
    "zone": (frozenset({"name"}),),
    "class": (frozenset({"name"}),),
    "route": (frozenset({"to", "via"}),),
    "range": tuple(map(frozenset, ({"first", "last"}, {"first", "count"}, {"offset", "count"}))),
    "exclusion": (frozenset({"first", "last"}),),
    "option": (frozenset({"code", "value"}), frozenset({"code", "data"})),
    "lease": (frozenset({"address"}), frozenset({"mac"}), frozenset({"client_id"})),
    "binding": (frozenset({"mac"}), frozenset({"client_id"})),
}
"""For each kind, the fields of which a statement that is about it has to say some."""


class Field(str):
    """A field as a slot names it: ``gateway``, ``subnet:mask``, ``pool.name``, ``range.first``."""


@dataclass(eq=False)
class Statement:
    """A node of the sample, with the fact around it and the one that it is about."""

    node: Node
    owner: Known
    fact: Known
    words: Sequence[Word]
    outer: Known
    """The fact around its whole line, which nothing in it has to name."""
    around: Node | None
    """The node that it is in."""
    others: frozenset[str] = frozenset()
    """The kinds of other facts that it may as well be about."""
    nearest: Known | None = None
    """A fact inside that it would be about but for one word."""
    counts: bool = False
    """Whether a number in it only counts what it is in."""

    @cached_property
    def skeleton(self) -> tuple[str, ...]:
        """What it has in common with statements of its kind: its text without values."""
        says = [any(self.field_of(m) for m in word.meanings) for word in self.words]
        opens = bool(self.node.children) or any(says) or self.fact is not self.owner
        counts = self.counts or opens
        return tuple(
            "\0" if said or (word.is_number and counts) else " ".join(words_of(word.text)) or " "
            for word, said in zip(self.words, says, strict=True)
        )

    def field_of(self, meaning: Meaning) -> Field | None:
        """What a word with a meaning says of the fact, as a slot names it; None if nothing."""
        part = f":{meaning.part}" if meaning.part not in ("", "typed") else ""
        if meaning.fact is self.fact:
            return Field(meaning.field + part)
        if self.fact.is_in(meaning.fact):
            return self._reference(meaning)
        inner = meaning.fact.kind == "range" and meaning.fact.is_in(self.fact)
        if inner and self.fact.kind == "pool":
            return Field(f"range.{meaning.field}{part}")
        return None

    def _reference(self, meaning: Meaning) -> Field | None:
        """How a fact names another one that it is in."""
        if meaning.field != "name" or meaning.fact.kind == "device":
            return None
        if self.outer.is_in(meaning.fact):
            return None
        own = KINDS[self.fact.kind].fields
        kind = meaning.fact.kind
        if kind in own and self.fact.fields.get(kind, meaning.fact.fields["name"]):
            return Field(kind)
        pool = self.fact.pool
        if kind == "interface" and pool is not None:
            return Field("pool.interface")
        return Field(f"{kind}.name")

    def variant(self, words: Sequence[Word]) -> str:
        """Which of the ways to say its kind it is; ``words`` are all that is inside it."""
        said = {m.field for word in words for m in word.meanings if m.fact is self.fact}
        if self.fact.kind == "binding" and self.fact is not self.owner:
            return "client_id" if "client_id" in said else "mac"
        if self.fact.kind == "exclusion" and self.fact is not self.owner:
            return "span" if sum(bool(word.meanings) and any(
                m.fact is self.fact and m.field in ("first", "last") for m in word.meanings
            ) for word in words) > 1 else "address"  # fmt: skip
        return ""

    @cached_property
    def fields(self) -> list[frozenset[Field]]:
        """What each of its words may say."""
        return [
            frozenset(name for m in word.meanings if (name := self.field_of(m)))
            for word in self.words
        ]


@dataclass
class Explainer:
    """Finds what statements are about."""

    meanings: Meanings
    on_line: Callable[[Node], Sequence[Node]]
    """Of what is inside a node, what stands on its own line."""
    _words: dict[Node, list[Word]] = field(default_factory=dict)
    _below: dict[Node, list[Word]] = field(default_factory=dict)

    @property
    def device(self) -> Known:
        """The fact that all others are in."""
        return self.meanings.facts[0]

    def words(self, node: Node) -> list[Word]:
        """The words of a node's own text."""
        if node not in self._words:
            self._words[node] = self.meanings.words(node.text)
        return self._words[node]

    def below(self, node: Node) -> list[Word]:
        """The words that may be values, of a node and of all that is inside it."""
        if node not in self._below:
            own = [word for word in self.words(node) if word.meanings]
            self._below[node] = [*own, *chain.from_iterable(map(self.below, node.children))]
        return self._below[node]

    def statement(self, node: Node, owner: Known, outer: Known, around: Node | None) -> Statement:
        """What a node is about that is inside a fact."""
        every = self.below(node)
        words = [word for word in every if word.is_sure]
        facts = {m.fact: None for w in every for m in w.meanings if m.fact.is_in(owner)}
        # A single fact is less than all: what it can't say counts for those that it is in.
        scores = {fact: _score(fact, words) for fact in facts if _is_told(fact, every)}
        scores[owner] = _score(owner, words)
        best = max(scores.values())
        fitting = [fact for fact, score in scores.items() if score >= best - _TIE]
        own = self.words(node)
        is_option = any(fact.kind == "option" and _is_named(fact, own) for fact in scores)
        if owner in fitting and not (node.children or is_option) and _says_all(owner, own):
            return Statement(node, owner, owner, own, outer, around)

        line = [*own, *chain.from_iterable(map(self.words, self.on_line(node)))]

        def fit(fact: Known) -> tuple[bool, int, bool, int]:
            is_named = _is_said(fact, line) if fact is owner else _is_named(fact, line)
            # A class is sooner named as such than by a pool of its own.
            is_likely = fact.is_planned or fact.kind != "pool"
            return is_named, _covered(fact, every), is_likely, fact.depth

        *likest, deepest = max(map(fit, fitting))
        chosen = [fact for fact in fitting if fit(fact) == (*likest, deepest)]
        chosen.sort(key=lambda fact: (not fact.is_planned, *_rank(fact, every)))
        others = frozenset(fact.kind for fact in chosen) - {chosen[0].kind}
        near = [f for f, score in scores.items() if score >= best - 1 and f.depth > deepest]
        nearest = max(near, key=scores.__getitem__, default=None)
        return Statement(node, owner, chosen[0], self.words(node), outer, around, others, nearest)


def _is_named(fact: Known, words: Sequence[Word]) -> bool:
    """Whether words say what tells a fact from others."""
    identity = KINDS[fact.kind].identity
    return any(m.fact is fact and m.field in identity for w in words for m in w.meanings)


def _says_all(fact: Known, words: Sequence[Word]) -> bool:
    """Whether each word that says something by itself may be a field of one fact."""
    sure = [word for word in words if word.is_sure]
    return bool(sure) and all(any(m.fact is fact for m in word.meanings) for word in sure)


def _is_said(fact: Known, words: Sequence[Word]) -> bool:
    """Whether words say something of a fact itself."""
    return any(m.fact is fact and m.is_sure for word in words for m in word.meanings)


def _covered(fact: Known, words: Sequence[Word]) -> int:
    """How many words that are no numbers a fact and what is in it would say."""
    return sum(
        any(_says(meaning, fact) for meaning in word.meanings)
        for word in words
        if not word.is_number
    )


def _score(fact: Known, words: Sequence[Word]) -> float:
    """How much of what words may mean a fact, what is in it and what it is in would say."""
    total = 0.0
    named = {
        m.fact
        for word in words
        for m in word.meanings
        if m.field == "name" and len(word.meanings) == 1
    }
    for word in words:
        total += max((_weight(m, named) for m in word.meanings if _says(m, fact)), default=0.0)
    return total


def _says(meaning: Meaning, fact: Known) -> bool:
    if meaning.fact.is_in(fact):
        return True
    return meaning.field == "name" and meaning.fact.kind != "device" and fact.is_in(meaning.fact)


def _weight(meaning: Meaning, named: Collection[Known]) -> float:
    """How much a meaning counts; less for what another fact, which is named as well, would say."""
    if not meaning.is_sure:
        return 0.0
    is_added = meaning.field in meaning.fact.added and meaning.fact.pool in named
    return _ADDED if is_added else 1.0


def _rank(fact: Known, words: Sequence[Word]) -> tuple[int, int]:
    """How many words say what tells a fact from others, and how many say anything of it."""
    own = [{m.field for m in word.meanings if m.fact is fact} for word in words]
    identity = {*KINDS[fact.kind].identity}
    return -sum(bool(fields & identity) for fields in own), -sum(map(bool, own))


def _is_told(fact: Known, words: Sequence[Word]) -> bool:
    """Whether words say enough of a fact to tell that they are about it."""
    said = {
        m.field
        for word in words
        for m in word.meanings
        if m.fact is fact and m.part not in ("mask", "inverted", "bits")
    }
    if fact.kind in _NEEDED:
        return any(needed <= said for needed in _NEEDED[fact.kind])
    if said & {"name", "subnet"}:
        return True
    return any(all(m.fact is fact for m in word.meanings) for word in words)
