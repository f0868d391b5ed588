"""What is checked: a plan, where each part of it is, and what came to light in reading it."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import NamedTuple

from reservoir.core.findings import Obstacle
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import Plan, PlanPath
from reservoir.core.problems import Place


class LineChange(NamedTuple):
    """A line of a configuration that has to come or to go."""

    text: str
    is_new: bool


class Subject(ABC):
    """Something that can be checked: a plan from its files, or one made of configuration."""

    plan: Plan
    files: tuple[str, ...]
    """Every file that was read, the main one first."""

    @abstractmethod
    def place(self, path: PlanPath) -> Place:
        """The place of a plan path, or of the nearest part above it."""

    @property
    def is_complete(self) -> bool:
        """Whether all devices that matter are in it; else others may be what is missing."""
        return True

    @property
    def obstacles(self) -> Sequence[Obstacle]:
        """What is wrong that only the text it was read from shows."""
        return ()

    def lines_of(self, edit: Edit) -> Sequence[LineChange]:
        """What an edit is in the lines of the configuration, if it was read from any."""
        return ()
