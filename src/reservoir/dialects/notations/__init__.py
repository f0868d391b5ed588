"""Notations that configuration comes in, by the name that a sheet's header gives them."""

from __future__ import annotations

from collections.abc import Mapping

from reservoir.dialects.notations.json import Json
from reservoir.dialects.notations.lines import Lines
from reservoir.dialects.notations.nodes import Notation
from reservoir.dialects.notations.paths import Paths
from reservoir.dialects.notations.records import Records
from reservoir.dialects.notations.sections import Sections
from reservoir.dialects.notations.xml import Xml

NOTATIONS: Mapping[str, type[Notation]] = {
    "lines": Lines,
    "paths": Paths,
    "records": Records,
    "sections": Sections,
    "xml": Xml,
    "json": Json,
}
