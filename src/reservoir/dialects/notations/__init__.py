"""Notations that configuration comes in: statements laid out as a header says, or a standard's."""

from __future__ import annotations

from collections.abc import Mapping

from reservoir.dialects.notations.json import Json
from reservoir.dialects.notations.nodes import Notation
from reservoir.dialects.notations.xml import Xml

CARRIERS: Mapping[str, type[Notation]] = {"xml": Xml, "json": Json}
"""Notations that are a standard of their own, by the name that a header gives them."""
