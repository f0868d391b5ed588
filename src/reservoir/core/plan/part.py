"""What all parts of the plan have in common."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict


class Part(BaseModel):
    """A part of the plan: immutable, without unknown keys."""

    # Built when first used: the file's model contains all others, which need none of their own.
    model_config = ConfigDict(frozen=True, extra="forbid", populate_by_name=True, defer_build=True)
