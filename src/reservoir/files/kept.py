"""What was made of files, kept while their texts stay the same."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import TypeVar, cast

Made = TypeVar("Made")


class Kept:
    """What was made of contents, the latest for each key; made anew when its content differs.

    Who loads a plan again and again hands the same one over: only files that changed are read anew.
    """

    def __init__(self) -> None:
        self._made: dict[Hashable, tuple[object, object]] = {}

    def of(self, key: Hashable, content: object, make: Callable[[], Made]) -> Made:
        """What is made of a content, or was made when it last was asked for.

        Args:
            key: What it is for, such as a file's name.
            content: What it is made of; compared, not hashed.
            make: Makes it. What it raises is not kept.
        """
        known = self._made.get(key)
        if known is None or known[0] != content:
            known = self._made[key] = (content, make())
        return cast("Made", known[1])
