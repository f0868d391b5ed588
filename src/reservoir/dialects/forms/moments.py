"""The form of points in time, by a template of their parts."""

from __future__ import annotations

import datetime
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from string import ascii_letters, digits

from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.forms.form import Form, blanks_free

NEVER = "never"
"""The value of the end of what has none."""

_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")

_PARTS: Mapping[str, str] = {
    "year": "[0-9]{4}",
    "month": "[0-9]{1,2}",
    "month-name": "[A-Za-z]{3,9}",
    "day": "[0-9]{1,2}",
    "hour": "[0-9]{1,2}",
    "minute": "[0-9]{2}",
    "second": "[0-9]{2}",
    "weekday": "[A-Za-z0-9]+",
    "offset": "[+-][0-9]{2}:?[0-9]{2}|Z",
    "seconds-since-1970": "[0-9]{1,11}",
}
"""What each part of a template looks like."""

_CHARACTERS = {
    "month-name": ascii_letters,
    "weekday": ascii_letters + digits,
    "offset": digits + "+-:Z",
}
"""Those of the parts that aren't all digits."""

_SLOT = re.compile(r"\{([a-z0-9-]*)\}")


@dataclass(frozen=True)
class MomentForm(Form):
    """A point in time by a template such as ``{day}.{month}.{year} {hour}:{minute}``.

    Its value is a text in ISO 8601, with an offset only if one is known, ``never``, or seconds
    since 1970: whoever knows the clock makes a time of it.
    """

    template: str = "{year}-{month}-{day}T{hour}:{minute}:{second}"
    infinite: str = ""
    is_utc: bool = False
    """Whether its clock is UTC, which the template doesn't say."""

    @property
    def pattern(self) -> str:  # type: ignore[override]
        """What may stand there: a time, right or nearly."""
        parts = _SLOT.split(self.template)
        return "".join(
            f"(?:{_PARTS[part]})" if number % 2 else blanks_free(part)
            for number, part in enumerate(parts)
        ) + (f"|{blanks_free(self.infinite)}" if self.infinite else "")

    @property
    def signs(self) -> set[str]:
        """What stands between the numbers."""
        return set(_SLOT.sub("0", self.template) + self.infinite) - {" "}

    @property
    def mistake(self) -> str | None:
        """What is wrong with the template; None if nothing is."""
        names = _SLOT.findall(self.template)
        unknown = next((name for name in names if name not in _PARTS), None)
        if unknown is not None:
            return f"there is no part {{{unknown}}}; there are {', '.join(_PARTS)}"
        is_whole = {"year", "day", "hour", "minute"} <= {*names} and (
            ("month" in names) != ("month-name" in names)
        )
        if not is_whole and names != ["seconds-since-1970"]:
            return (
                "a moment has a year, a month, a day, an hour and a minute, such as "
                '"{year}-{month}-{day} {hour}:{minute}:{second}", or it is "{seconds-since-1970}"'
            )
        twice = next((name for name in names if names.count(name) > 1), None)
        return f"{{{twice}}} is there twice" if twice is not None else None

    @property
    def pieces(self) -> Iterator[tuple[str, str]]:
        """Its texts, each with the characters of the part behind it; none behind the last."""
        *parts, last = _SLOT.split(self.template)
        for text, part in zip(parts[::2], parts[1::2], strict=True):
            yield text, _CHARACTERS.get(part, digits)
        yield last, ""

    def example(self, hour: int = 12) -> str:
        """A value that it can say, at an hour of a day; to the second if it says seconds."""
        if "{seconds-since-1970}" in self.template:
            return str(1_806_451_200 + 3_600 * hour)
        has_offset = self.is_utc or "{offset}" in self.template
        second = "45" if "{second}" in self.template else "00"
        return f"2027-03-31T{hour:02}:30:{second}" + ("+00:00" if has_offset else "")

    @cached_property
    def _expression(self) -> re.Pattern[str]:
        parts = _SLOT.split(self.template)
        return re.compile(
            "".join(
                f"(?P<{_group(part)}>{_PARTS[part]})" if number % 2 else blanks_free(part)
                for number, part in enumerate(parts)
            )
        )

    def read(self, text: str) -> str:
        if self.infinite and re.fullmatch(blanks_free(self.infinite), text):
            return NEVER
        found = self._expression.fullmatch(text)
        if found is None:
            raise MalformedValueError(f"{text!r} is not a time like {self.template}")
        said = found.groupdict()
        if (seconds := said.get(_group("seconds-since-1970"))) is not None:
            return str(int(seconds))
        name = said.get(_group("month-name"))
        try:
            month = int(said["month"]) if name is None else 1 + _MONTHS.index(name[:3].title())
            moment = datetime.datetime(
                int(said["year"]),
                month,
                int(said["day"]),
                int(said["hour"]),
                int(said["minute"]),
                int(said.get("second") or 0),
            )
        except ValueError:
            raise MalformedValueError(f"{text!r} is no time of any day") from None
        offset = said.get("offset")
        if self.is_utc or offset == "Z":
            offset = "+00:00"
        offset = f"{offset[:3]}:{offset[-2:]}" if offset else ""
        return moment.isoformat(timespec="seconds") + offset

    def write(self, value: str) -> str:
        if value == NEVER:
            if not self.infinite:
                raise MalformedValueError("this dialect has no lease without an end")
            return self.infinite
        if value.isdigit() != ("{seconds-since-1970}" in self.template):
            raise MalformedValueError(f"{value} can't be written like {self.template}")
        if value.isdigit():
            return _SLOT.sub(value, self.template)
        moment = datetime.datetime.fromisoformat(value)
        parts = {
            "year": f"{moment.year:04}",
            "month": f"{moment.month:02}",
            "month-name": _MONTHS[moment.month - 1],
            "day": f"{moment.day:02}",
            "hour": f"{moment.hour:02}",
            "minute": f"{moment.minute:02}",
            "second": f"{moment.second:02}",
            "weekday": str(moment.isoweekday() % 7),
            "offset": f"{moment:%z}" or "Z",
        }
        return _SLOT.sub(lambda part: parts[part[1]], self.template)


def _group(part: str) -> str:
    """The name of a part's group: no digits or dashes lead it."""
    return part.replace("-", "_")
