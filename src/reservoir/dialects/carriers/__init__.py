"""Notations that configuration comes in, by the name that a sheet's header gives them."""

from __future__ import annotations

from collections.abc import Mapping

from reservoir.dialects.carriers.json import Json
from reservoir.dialects.carriers.lines import Lines
from reservoir.dialects.carriers.nodes import Carrier
from reservoir.dialects.carriers.paths import Paths
from reservoir.dialects.carriers.records import Records
from reservoir.dialects.carriers.sections import Sections
from reservoir.dialects.carriers.xml import Xml

CARRIERS: Mapping[str, type[Carrier]] = {
    "lines": Lines,
    "paths": Paths,
    "records": Records,
    "sections": Sections,
    "xml": Xml,
    "json": Json,
}
