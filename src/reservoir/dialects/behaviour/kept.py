"""Settings that the plan cannot model: kept with the device and written back unchanged."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from typing import Any

from reservoir.core.values.addresses import MalformedValueError, format_address, parse_address
from reservoir.core.values.durations import format_duration, parse_duration
from reservoir.core.wording import hint
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import KINDS

Kept = dict[str, dict[str, str]]
"""By what it is about, such as ``pool crew``: fields and their values as texts."""


def kept_of(device: Fact, pools: Iterable[tuple[str, Fact]]) -> Kept:
    """What a configuration states that no other part of the plan can model.

    Args:
        device: The device's fact, with its interfaces.
        pools: Each pool, with the name of its network in the plan.
    """
    owners = [("device", device)]
    owners += [
        (f"interface {fact.get('name')}", fact)
        for fact in device.of_kind("interface")
        if fact.get("name")
    ]
    owners += [(f"pool {name}", pool) for name, pool in pools]
    found = {about: dict(_texts(fact)) for about, fact in owners}
    return {about: fields for about, fields in found.items() if fields}


def _texts(fact: Fact) -> Iterator[tuple[str, str]]:
    for name in KINDS[fact.kind].kept:
        value, field = fact.get(name), KINDS[fact.kind].fields[name]
        says_more = value != fact.get(field.restates)
        if value is not None and says_more:
            yield name, _text(field.type, value)


def _text(kind: str, value: Any) -> str:
    if kind == "bool":
        return "yes" if value else "no"
    if kind == "duration":
        return format_duration(value)
    if kind == "ip":
        return format_address(value)
    return ", ".join(map(format_address, value)) if kind == "ips" else str(value)


def faults_in_kept(
    kept: Mapping[str, Mapping[str, str]], interfaces: Iterable[str], networks: Iterable[str]
) -> Iterator[str]:
    """What is wrong with what is kept for a device that has these interfaces and pools."""
    known = ["device", *(f"interface {name}" for name in interfaces)]
    known += [f"pool {name}" for name in networks]
    for about, fields in kept.items():
        if about not in known:
            yield f"there is no {about!r}{hint(about, known)}"
            continue
        kind = about.partition(" ")[0]
        for name, text in fields.items():
            if name not in KINDS[kind].kept:
                others = (
                    hint(name, KINDS[kind].kept) or f"; there are {', '.join(KINDS[kind].kept)}"
                )
                yield f"{name!r} can't be kept for a {kind}{others}"
                continue
            try:
                _value(KINDS[kind].fields[name].type, text)
            except MalformedValueError as error:
                yield f"{name} of {about}: {error}"


def put_back(kept: Mapping[str, Mapping[str, str]], facts: Mapping[str, list[Fact]]) -> None:
    """Give facts the fields that are kept for them; those with faults are left out.

    Args:
        kept: As in the plan.
        facts: The facts by what they are called there: ``device``, ``pool crew``.
    """
    for about, fields in kept.items():
        for fact in facts.get(about, ()):
            for name in KINDS[fact.kind].kept:
                with suppress(MalformedValueError, KeyError):
                    field = KINDS[fact.kind].fields[name]
                    value = _value(field.type, fields[name])
                    if field.type == "duration" and value < fact.get(field.restates, value):
                        continue  # a longest lease that is shorter than the planned one
                    fact.fields[name] = value


def _value(kind: str, text: str) -> Any:
    if kind == "bool":
        if text not in ("yes", "no"):
            raise MalformedValueError(f"{text!r} is neither yes nor no")
        return text == "yes"
    if kind == "duration":
        return parse_duration(text)
    if kind == "ip":
        return parse_address(text)
    return tuple(map(parse_address, text.split(", "))) if kind == "ips" else text
