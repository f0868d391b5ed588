"""A device's own words for the values of a closed set."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.wording import hint
from reservoir.dialects.forms.form import TOKEN, Form


@dataclass(frozen=True)
class OwnWords(Form):
    """Values of a closed set, each by the device's word for it; the others it can't say."""

    words: Mapping[str, str]
    """By the values."""

    @cached_property
    def _values(self) -> Mapping[str, str]:
        return {word: value for value, word in self.words.items()}

    @property
    def pattern(self) -> str:  # type: ignore[override]
        """What may stand there: a word, right or wrong; or one of several with blanks in them."""
        if not any(" " in word for word in self._values):
            return TOKEN
        return "|".join(map(re.escape, sorted(self._values, key=len, reverse=True)))

    def read(self, text: str) -> str:
        """The value that a word means.

        Raises:
            MalformedValueError: it is none of the words.
        """
        if text not in self._values:
            raise MalformedValueError(
                f"{text!r} is none of {', '.join(self._values)}{hint(text, self._values)}"
            )
        return self._values[text]

    def write(self, value: str) -> str:
        """The word for a value.

        Raises:
            MalformedValueError: there is none.
        """
        if value not in self.words:
            raise MalformedValueError(f"there is no word for {value!r}")
        return self.words[value]
