"""Reads the words of a header that say how values are written."""

from __future__ import annotations

import re
import warnings

from reservoir.dialects.forms.durations import DurationForm
from reservoir.dialects.forms.plain import GroupedBytes, MacForm
from reservoir.dialects.sheet.mistakes import SheetMistakeError, number, pairs_of


def characters(text: str) -> str:
    """A set of characters, as in a regular expression.

    Raises:
        SheetMistakeError: it is none.
    """
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", FutureWarning)  # a set that later means something else
            re.compile(f"[{text}]" if text else "")
    except (re.error, FutureWarning):
        raise SheetMistakeError(f"{text!r} is not a set of characters, like A-Za-z0-9_-") from None
    return text


def duration_form(values: list[str]) -> DurationForm:
    """The form of lease times that ``duration`` describes.

    Raises:
        SheetMistakeError: the words describe none.
    """
    if values[1:] and "{" in values[0] and values[1] not in ("infinite", "also"):
        raise SheetMistakeError('a lease time with blanks in it is in quotes: duration "{m} min"')
    pairs = pairs_of(values[1:], "duration", ("infinite", "also"))
    form = DurationForm(
        values[0] if values else "", pairs.get("infinite", ""), pairs.get("also", "")
    )
    every = [form, *([DurationForm(pairs["also"])] if "also" in pairs else [])]
    if not all(form.units and form.parts for form in every):
        raise SheetMistakeError(
            'a duration has units in it, such as "{d} days {h} hours": {w} {d} {h} {m} {s} {ms}'
        )
    return form


def grouped_bytes(values: list[str]) -> GroupedBytes:
    """The form of bytes that ``bytes group`` describes.

    Raises:
        SheetMistakeError: the words describe none.
    """
    pairs = pairs_of(values, "bytes", ("group", "sep", "prefix", "case"))
    group = number(pairs.get("group", "2"))
    if not group or group % 2:
        raise SheetMistakeError("bytes have groups of 2, 4, 6 … digits")
    return GroupedBytes(
        group, pairs.get("sep", ""), pairs.get("prefix", ""), pairs.get("case") == "upper"
    )


def mac_form(values: list[str]) -> MacForm:
    """The form of MAC addresses that ``mac`` describes.

    Raises:
        SheetMistakeError: the words describe none.
    """
    pairs = pairs_of(values, "mac", ("group", "sep", "prefix", "type", "case"))
    hardware = pairs.get("type", "")
    if not re.fullmatch("([0-9a-f]{2})*", hardware):
        raise SheetMistakeError('a hardware type is two digits or four, like: type "01"')
    group = number(pairs.get("group", "2"))
    if group not in (2, 4, 6, 12):
        raise SheetMistakeError("a MAC address has groups of 2, 4, 6 or 12 digits")
    return MacForm(
        group,
        pairs.get("sep", ""),
        pairs.get("prefix", ""),
        pairs.get("case") == "upper",
        hardware,
    )
