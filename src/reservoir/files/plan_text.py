"""Writes a plan as YAML that people read: short blocks in braces, nothing that is a default.

Written here rather than by a YAML library's emitter, because a plan is only mappings, lists and
texts, has a layout of its own, and may have a hundred thousand bindings. Whatever isn't plainly
safe is quoted as JSON does it, which is YAML too.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from functools import lru_cache
from typing import Any

from reservoir.core.plan.model import PLAN_FORMAT, Network, Plan, PlanFile

WIDTH = 96
"""A block in braces longer than this is written over several lines."""

_is_plain = re.compile(
    r"(?=[0-9A-Za-z_./])[0-9A-Za-z_./%+@-]++"
    r"(?:(?::(?=[0-9A-Za-z])| (?=[0-9A-Za-z_./]))[0-9A-Za-z_./%+@-]++)*+"
).fullmatch
_NOT_A_TEXT = {"null", "true", "false", "yes", "no"}
"""Words that other YAML readers take for something else, when they are meant as names."""


def plan_text(plan: Plan) -> str:
    """The plan's file, without the rows of its tables."""
    file = PlanFile(
        reservoir="1",
        name=plan.name,
        defaults=plan.defaults,
        devices=plan.devices,
        classes=plan.classes,
        networks=plan.networks,
        checks=plan.checks,
        anycast=plan.anycast,
        listeners=plan.listeners,
        accept=plan.accept,
    )
    data = file.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    data["reservoir"] = PLAN_FORMAT
    for name, device in data.get("devices", {}).items():
        if plan.devices[name].states_routes:
            device.setdefault("routes", [])  # left out, they would not be known
        for interface in device.get("interfaces", {}).values():
            if len(interface.get("address", ())) == 1:
                interface["address"] = interface["address"][0]
    for name, network in plan.networks.items():
        _shorten(data["networks"][name], network)
    return data_text({key: data[key] for key in PlanFile.model_fields if key in data})


class Remarked(dict[str, Any]):
    """A block of keys that is written with a remark above it, where that can stand."""

    def __init__(self, block: Mapping[str, Any], remark: str) -> None:
        """Take the keys, and the remark's one line."""
        super().__init__(block)
        self.remark = remark


def data_text(data: dict[str, Any]) -> str:
    """The text of a plan file that has these keys, in their order."""
    return "\n".join(_sections(data)) + "\n"


def _shorten(written: dict[str, Any], network: Network) -> None:
    """The short forms that people write: one server by its name, an exclusion by its range."""
    services = network.served_by
    if services and all(s.device and (s.ranges, s.partner) == (None, None) for s in services):
        names = [service.device for service in services]
        written["served_by"] = names[0] if len(names) == 1 else names
    elif len(services) == 1:
        written["served_by"] = written["served_by"][0]
    elif not services and not network.leaves_out_server:
        written["served_by"] = []  # nobody: left out, it may be the only device there
    if network.exclusions:
        written["exclusions"] = [
            item if item.get("for") else item["range"] for item in written["exclusions"]
        ]


def _sections(data: dict[str, Any]) -> Iterator[str]:
    """The lines of the file, an empty one before each section, device and network."""
    for key, value in data.items():
        if not isinstance(value, dict) or not value:
            yield f"{key}: {in_braces(value)}"
            continue
        yield from ("", f"{key}:")
        apart = key in ("devices", "networks")
        for number, (name, inner) in enumerate(value.items()):
            if apart and number:
                yield ""
            yield from entry_lines(name, inner, 2)


def entry_lines(key: str, value: Any, indent: int) -> Iterator[str]:
    """The lines of one key: in braces where it is small and fits, else as a block."""
    if isinstance(value, Remarked):
        yield f"{' ' * indent}# {value.remark}"
    head = f"{' ' * indent}{scalar_text(key)}:"
    is_block = bool(value) and isinstance(value, dict | list)
    if not is_block or not _has_blocks(value):
        line = f"{head} {in_braces(value)}"
        if not is_block or len(line) <= WIDTH:
            yield line
            return
    yield head
    if isinstance(value, dict):
        for name, inner in value.items():
            yield from entry_lines(name, inner, indent + 2)
        return
    for item in value:
        yield f"{' ' * (indent + 2)}- {in_braces(item)}"


def _has_blocks(value: dict[str, Any] | list[Any]) -> bool:
    """Whether blocks are inside, or a list of blocks."""
    for inner in value.values() if isinstance(value, dict) else value:
        if isinstance(inner, dict) or (isinstance(inner, list) and _has_blocks(inner)):
            return True
    return False


def in_braces(value: Any) -> str:
    """A value in a line."""
    if isinstance(value, str):
        return scalar_text(value)
    if isinstance(value, dict):
        pairs = [f"{_key_text(key)}: {in_braces(inner)}" for key, inner in value.items()]
        return f"{{{', '.join(pairs)}}}"
    if isinstance(value, list):
        return f"[{', '.join(map(in_braces, value))}]"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return f"{value:d}"


def scalar_text(text: str) -> str:
    """A text as YAML takes it for just that."""
    if _is_plain(text) and text.lower() not in _NOT_A_TEXT:
        return text
    return json.dumps(text, ensure_ascii=False)


_key_text = lru_cache(maxsize=1 << 10)(scalar_text)  # a plan has few keys, each many times
