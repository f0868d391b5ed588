"""The formats that findings are reported in: a module each, whose name is the format's.

A format has a function ``pieces(report, subject, width)`` that yields the report as text, piece by
piece, so that large reports need not fit into memory twice.
"""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Iterator
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from reservoir.core.checks import Report
    from reservoir.core.subject import Subject

FORMATS = tuple(
    sorted((found.name for found in pkgutil.iter_modules(__path__)), key=lambda n: (n != "text", n))
)
"""The names of the formats; the one for people first."""


def pieces(form: str, report: Report, subject: Subject, width: int) -> Iterator[str]:
    """A report in one of the formats.

    Args:
        form: One of ``FORMATS``.
        report: The findings.
        subject: What was checked.
        width: Columns, for the formats that people read.
    """
    module = importlib.import_module(f"{__name__}.{form}")  # late: one of them is wanted
    made: Iterator[str] = module.pieces(report, subject, width)
    return made
