"""A field that is made of others: an interface's name of its parent's and a VLAN tag."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.forms.plain import VLAN

_SLOT = re.compile(r"\{([a-z_]+)\}")


@dataclass(frozen=True)
class MadeOf:
    """A text with other fields in it: ``{parent}.{vlan}``."""

    template: str

    @cached_property
    def parts(self) -> tuple[str, ...]:
        """The fields that it is made of."""
        return tuple(_SLOT.findall(self.template))

    def of(self, fields: Mapping[str, Any]) -> str | None:
        """The text for some fields; None if one of its parts is missing."""
        if any(part not in fields for part in self.parts):
            return None
        return _SLOT.sub(lambda slot: str(fields[slot[1]]), self.template)

    @cached_property
    def _expression(self) -> re.Pattern[str]:
        pieces = _SLOT.split(self.template)
        return re.compile(
            "".join("(.+)" if n % 2 else re.escape(piece) for n, piece in enumerate(pieces))
        )

    def taken_apart(self, text: str) -> dict[str, Any]:
        """The parts of a text; none if it isn't made so."""
        found = self._expression.fullmatch(text)
        if found is None:
            return {}
        parts: dict[str, Any] = dict(zip(self.parts, found.groups(), strict=True))
        try:
            return parts | ({"vlan": VLAN.read(parts["vlan"])} if "vlan" in parts else {})
        except MalformedValueError:
            return {}
