"""Writes a plan as YAML that people read: short blocks in braces, nothing that is a default."""

from __future__ import annotations

import re
from typing import Any, ClassVar

import yaml

from reservoir.core.plan import PLAN_FORMAT, Network, Plan, PlanFile


def plan_text(plan: Plan) -> str:
    """The plan's file. Rows of tables are written out as bindings of their networks."""
    file = PlanFile(
        reservoir="1",
        name=plan.name,
        defaults=plan.defaults,
        devices=plan.devices,
        networks=plan.networks,
        checks=plan.checks,
        accept=plan.accept,
    )
    data = file.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    data.pop("reservoir", None)
    for name, network in plan.networks.items():
        _shorten(data["networks"][name], network)
    ordered = _texts({"reservoir": PLAN_FORMAT, **data})
    text = yaml.dump(
        ordered,
        Dumper=_Dumper,
        sort_keys=False,
        default_flow_style=None,
        allow_unicode=True,
        width=96,
    )
    return _sections_apart(text)


def _texts(value: Any) -> Any:
    """All scalars as texts, since that is how a plan is read: nothing needs quotes for its type."""
    if isinstance(value, dict):
        return {str(key): _texts(item) for key, item in value.items()}
    if isinstance(value, list):
        return [_texts(item) for item in value]
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)


class _Dumper(yaml.SafeDumper):
    """Indents lists below their key, never makes anchors, and takes every text for a text."""

    yaml_implicit_resolvers: ClassVar[dict[str, Any]] = {}  # type: ignore[misc]

    def analyze_scalar(self, scalar: str) -> Any:
        analysis = super().analyze_scalar(scalar)
        if re.fullmatch("[0-9A-Za-z]+(?::[0-9A-Za-z]+)+", scalar):  # a MAC address in braces
            analysis.allow_flow_plain = True
        return analysis

    def increase_indent(self, flow: bool = False, indentless: bool = False) -> None:
        super().increase_indent(flow, False)

    def ignore_aliases(self, data: Any) -> bool:
        return True


def _shorten(written: dict[str, Any], network: Network) -> None:
    """The short forms that people write: one server by its name, an exclusion by its range."""
    services = network.served_by
    if services and all(service.ranges is None for service in services):
        names = [service.device for service in services]
        written["served_by"] = names[0] if len(names) == 1 else names
    if network.exclusions:
        written["exclusions"] = [
            item if item.get("for") else item["range"] for item in written["exclusions"]
        ]


def _sections_apart(text: str) -> str:
    """An empty line before each section, and before each network and device."""
    lines: list[str] = []
    for line in text.splitlines():
        is_key = line.rstrip().endswith(":") and not line.startswith("   ")
        if lines and is_key and not lines[-1].endswith(":"):
            lines.append("")
        lines.append(line)
    return "\n".join(lines) + "\n"
