"""Which files a run has changed: whoever cuts it short must be told."""

from __future__ import annotations

from contextvars import ContextVar
from pathlib import Path

noted: ContextVar[list[Path] | None] = ContextVar("noted", default=None)
"""The list that changed files are added to; None if nobody asked."""
