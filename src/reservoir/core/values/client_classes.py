"""Classes of clients: who belongs to one by what it says of itself, and who is left.

A class is a few words, of which a client must match all: its vendor class (RFC 2132 section 9.13),
user class (RFC 3004), architecture (RFC 4578 section 2.1), the beginning of its MAC address, and
what its relay adds (RFC 3046). A text may have ``*`` at its beginning and its end, which stands for
any characters.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, fields

from reservoir.core.values.clients import Mac

ANY = "*"
"""Stands for any characters, at the beginning or at the end of a text."""

_GROUP = 1
"""The bit of a MAC address's first byte that is set for groups, which no client is."""

_FREE_MAC = bytes((0x02, 0x04))
"""How MAC addresses begin that no maker gave: locally administered."""


@dataclass(frozen=True, slots=True)
class Said:
    """What a client says of itself, and its relay of it; several words where it may."""

    mac: Mac
    vendor_class: tuple[str, ...] = ()
    user_class: tuple[str, ...] = ()
    architecture: tuple[int, ...] = ()
    circuit: tuple[str, ...] = ()
    remote: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class ClassWords:
    """The words that a client must match to be in a class; what is None doesn't matter."""

    vendor_class: str | None = None
    user_class: str | None = None
    architecture: frozenset[int] | None = None
    mac: bytes | None = None
    """How its MAC address begins: 1 to 6 bytes."""
    circuit: str | None = None
    remote: str | None = None

    @property
    def said(self) -> tuple[str, ...]:
        """The names of the words that matter."""
        return tuple(f.name for f in fields(self) if getattr(self, f.name) is not None)

    def matches(self, client: Said) -> bool:
        """Whether a client is in the class."""
        if self.mac is not None and not client.mac.to_bytes(6, "big").startswith(self.mac):
            return False
        if self.architecture is not None and self.architecture.isdisjoint(client.architecture):
            return False
        return all(
            (word := getattr(self, name)) is None
            or any(is_like(text, word) for text in getattr(client, name))
            for name in TEXTS
        )

    def decides_by_mac(self) -> bool:
        """Whether the MAC address alone tells who is in it."""
        return self.said == ("mac",)


TEXTS = ("vendor_class", "user_class", "circuit", "remote")
"""The words that are texts."""


def is_like(text: str, word: str) -> bool:
    """Whether a text is one that a word with ``*`` at its ends stands for."""
    begins, body, ends = _parts(word)
    if begins and ends:
        return body in text
    if begins:
        return text.endswith(body)
    return text.startswith(body) if ends else text == body


def _parts(word: str) -> tuple[bool, str, bool]:
    """Whether a word has ``*`` before and after what it says, and that."""
    begins = word.startswith(ANY)
    ends = word.endswith(ANY) and len(word) > begins
    return begins, word[begins : len(word) - ends], ends


def _includes(word: str, other: str) -> bool:
    """Whether every text that another word stands for is one that this stands for too."""
    begins, body, ends = _parts(word)
    other_begins, other_body, other_ends = _parts(other)
    if begins and ends:
        return body in other_body
    if begins:
        return not other_ends and other_body.endswith(body)
    if ends:
        return not other_begins and other_body.startswith(body)
    return word == other


def member_of(wanted: ClassWords, others: Sequence[ClassWords]) -> Said | None:
    """A client that is in a class and in none of some others; None if there is none.

    Exact: texts that ``*`` leaves open are chosen unlike all others, so that only those words
    match which include the wanted one; what is left is decided by architecture and MAC address.
    """
    texts = {name: _unlike(getattr(wanted, name), name, others) for name in TEXTS}
    left = [
        other
        for other in others
        if all(
            (word := getattr(other, name)) is None or any(is_like(t, word) for t in said)
            for name, said in texts.items()
        )
    ]
    architectures: Iterable[int | None] = (
        [None] if wanted.architecture is None else sorted(wanted.architecture)
    )
    for architecture in architectures:
        rivals = [
            other
            for other in left
            if other.architecture is None or architecture in other.architecture
        ]
        mac = _mac_outside(wanted.mac, rivals)
        if mac is not None:
            numbers = () if architecture is None else (architecture,)
            return Said(mac, architecture=numbers, **texts)
    return None


def nobody_says(words: Sequence[ClassWords]) -> Said | None:
    """A client that is in none of some classes; None if everybody is in one."""
    return member_of(ClassWords(), words)


def _unlike(word: str | None, name: str, others: Sequence[ClassWords]) -> tuple[str, ...]:
    """A text that a word stands for, and no word of others that doesn't include it."""
    if word is None:
        return ()
    begins, body, ends = _parts(word)
    if not (begins or ends):
        return (body,)
    used = {sign for other in others for sign in getattr(other, name) or ""} | set(body)
    sign = next(letter for letter in _letters() if letter not in used)
    rivals = [w for other in others if (w := getattr(other, name)) is not None]
    plain = body or sign
    if not any(is_like(plain, rival) and not _includes(rival, word) for rival in rivals):
        return (plain,)
    return ((sign if begins else "") + body + (sign if ends else ""),)


def _letters() -> Iterator[str]:
    """Letters, of which some is in no given text."""
    yield from map(chr, range(ord("a"), ord("z") + 1))
    yield from map(chr, range(0x100, 0x110000))


def _mac_outside(beginning: bytes | None, rivals: Sequence[ClassWords]) -> Mac | None:
    """A MAC address that begins so, and as no rival's; None if there is none."""
    if any(rival.mac is None for rival in rivals):
        return None
    taken = {rival.mac for rival in rivals if rival.mac is not None}
    found = _bytes_outside(beginning or b"", taken, is_free=beginning is None)
    return Mac.from_bytes(found, "big") if found is not None else None


def _bytes_outside(start: bytes, taken: Collection[bytes], *, is_free: bool) -> bytes | None:
    """Six bytes from a start on that begin with none that is taken; None if there are none."""
    if start and start[0] & _GROUP:
        return None
    if any(start.startswith(each) for each in taken):
        return None
    near = [each for each in taken if each.startswith(start)]
    if len(start) == 6:
        return start
    if not near:
        filler = _FREE_MAC if is_free and not start else b""
        return (start + filler).ljust(6, b"\0")
    for number in _byte_values(start):
        found = _bytes_outside(start + bytes((number,)), near, is_free=is_free)
        if found is not None:
            return found
    return None


def _byte_values(start: bytes) -> Iterator[int]:
    """The values of the next byte; of the first those of single machines, locally given first."""
    if start:
        yield from range(256)
        return
    yield from range(2, 256, 4)
    yield from range(0, 256, 4)
