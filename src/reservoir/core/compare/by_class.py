"""What differs for the members of classes, and what they notice."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import reduce

from reservoir.core.by_class import ClassPool
from reservoir.core.compare.differences import ServedClass, classes_differently
from reservoir.core.compare.notice import Change, Notice
from reservoir.core.pools import Pool
from reservoir.core.values.address_set import EMPTY, AddressSet


def class_changes(before: Pool, after: Pool) -> Iterator[Change]:
    """What differs for members of classes between what one server does before and after."""
    old, new = (_served(pool) for pool in (before, after))
    if not old and not new:
        return
    for name, what, was, is_now in classes_differently(old, new):
        notice, because = _noticed(what, was, is_now, before, after)
        title = f"{what} of class {name}" if what else f"class {name}"
        yield Change(title, was, is_now, notice, because)
    yield from _of_no_class(before, after)


def _served(pool: Pool) -> Sequence[ServedClass]:
    classes = pool.by_class.classes if pool.by_class is not None else ()
    return [ServedClass(its.name, its.words, its.assignable, its.offer) for its in classes]


def _noticed(
    what: str, was: str | None, is_now: str | None, before: Pool, after: Pool
) -> tuple[Notice, str]:
    """What members notice of a difference."""
    if what == "":
        there = after if is_now is not None else before
        its = [c for c in _classes(there) if str(c.assignable) == (is_now or was)]
        if any(not c.is_admitted for c in _classes(after)) and is_now == "no address":
            return Notice.CUT_OFF, "they are not admitted"
        is_own = any(c.ranges is not None for c in its)
        return (Notice.NEW_ADDRESS, "") if is_own else (Notice.AT_RENEWAL, "")
    if what == "order":
        return Notice.NEW_ADDRESS, "a client of both is of the other one now"
    if what != "assignable":
        return Notice.AT_RENEWAL, ""
    if is_now is None:
        return Notice.CUT_OFF, "no address is left for them"
    lost = any(
        one.assignable - other.assignable
        for one in _classes(before)
        for other in _classes(after)
        if one.words == other.words and str(other.assignable) == is_now
    )
    return (Notice.NEW_ADDRESS, "") if lost else (Notice.ONLY_NEW_CLIENTS, "")


def _classes(pool: Pool) -> Sequence[ClassPool]:
    return pool.by_class.classes if pool.by_class is not None else ()


def _of_no_class(before: Pool, after: Pool) -> Iterator[Change]:
    """Addresses that clients of no class may get on one side only, though somebody may on both."""
    lost = (before.common - after.common) & after.assignable
    gained = (after.common - before.common) & before.assignable
    if lost and after.common:
        because = "they are a class's own now"
        yield Change("assignable to others", str(lost), None, Notice.NEW_ADDRESS, because)
    elif lost:
        because = "only classes are served"
        yield Change("assignable to others", str(lost), None, Notice.CUT_OFF, because)
    if gained:
        yield Change("assignable to others", None, str(gained), Notice.ONLY_NEW_CLIENTS)


def sure_to_stay(before: Pool, after: Pool) -> AddressSet:
    """The addresses that whoever may have one before may keep after, whatever its class.

    Where the classes themselves differ, those that everybody may get after.
    """
    old, new = _classes(before), _classes(after)
    if not old and not new:
        return after.assignable
    everybodys = reduce(AddressSet.__and__, (its.assignable for its in new), after.common)
    if [its.words for its in old] != [its.words for its in new]:
        return everybodys
    parts = [(before.common, after.common)]
    parts += [(was.assignable, its.assignable) for was, its in zip(old, new, strict=True)]
    lost = reduce(AddressSet.__or__, (was - is_now for was, is_now in parts), EMPTY)
    return after.assignable - lost
