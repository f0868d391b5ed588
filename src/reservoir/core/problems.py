"""What is wrong with an input: every problem with its place, collected, never one at a time."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass

from reservoir.core.wording import hint, shown


@dataclass(frozen=True, order=True)
class Place:
    """A place in a file; lines and columns count from 1."""

    file: str
    line: int = 1
    column: int = 1

    def __str__(self) -> str:
        file = self.file if self.file.isprintable() else repr(self.file)
        return f"{file}:{self.line}:{self.column}"


@dataclass(frozen=True, order=True)
class Problem:
    """One thing that is wrong with an input, and where."""

    place: Place
    message: str

    def __str__(self) -> str:
        return f"{self.place}: {shown(self.message)}"


class UnknownNameError(ValueError):
    """A name was given that nothing has: of a rule, a device, a dialect."""

    def __init__(self, kind: str, name: str, known: Collection[str]) -> None:
        """Name the nearest known one, if there is one."""
        super().__init__(kind, name, known)

    def __str__(self) -> str:
        kind, name, known = self.args
        return f"there is no {kind} {name!r}{hint(name, known)}"


class InputError(Exception):
    """An input can't be used. ``problems`` lists everything that is wrong with it, in order."""

    def __init__(self, problems: Iterable[Problem]) -> None:
        """Keep the problems sorted by place, each once."""
        self.problems = tuple(sorted(set(problems)))
        super().__init__(self.problems)

    def __str__(self) -> str:
        return "\n".join(str(problem) for problem in self.problems)
