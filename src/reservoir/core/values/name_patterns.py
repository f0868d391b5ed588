"""Patterns that names have to match: regular expressions that take time in step with the name.

Python's own expressions may try a name of thirty characters in a billion ways, and whoever writes
a plan doesn't see which do. Those of pydantic look at each character once.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from pydantic_core import SchemaError, SchemaValidator, core_schema

from reservoir.core.values.addresses import MalformedValueError


@dataclass(frozen=True)
class NamePattern:
    """A regular expression that a name has to match as a whole."""

    pattern: str

    @cached_property
    def _expression(self) -> SchemaValidator:
        return _compiled(rf"\A(?:{self.pattern})\z")

    def matches(self, name: str) -> bool:
        """Whether the whole name matches."""
        return self._expression.isinstance_python(name)


def parse_name_pattern(text: str) -> NamePattern:
    """The pattern that a text states.

    Raises:
        MalformedValueError: it is no regular expression; or it looks around or back, which can't
            be done in a bounded time.
    """
    try:
        _compiled(text)  # by itself: in brackets, `a)|(b` would be one too
        pattern = NamePattern(text)
        pattern.matches("")
    except SchemaError as error:
        _, named, reason = str(error).rpartition("\nerror: ")
        reason = reason.strip() if named else "it is too large"
        message = f"{text!r} can't be used as a regular expression: {reason}"
        raise MalformedValueError(message) from None
    return pattern


def _compiled(pattern: str) -> SchemaValidator:
    return SchemaValidator(core_schema.str_schema(pattern=pattern))
