"""Shell completion besides commands and options: names of rules, networks and devices."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from reservoir.core.plan.model import Plan

Completions = list[str]


def rule_names(_ctx: click.Context, _parameter: click.Parameter, begun: str) -> Completions:
    """Rules and families."""
    from reservoir.core.checks import rules  # late: only when the shell asks

    names = dict.fromkeys(name for rule in rules().values() for name in (rule.name, rule.family))
    return [name for name in names if name.startswith(begun)]


def plan_paths(ctx: click.Context, _parameter: click.Parameter, begun: str) -> Completions:
    """Networks and devices of the plan that the command line names, as paths."""
    from reservoir.core.plan.model import format_path

    plan = _plan_of(ctx)
    if plan is None:
        return []
    parts = [("networks", plan.networks), ("devices", plan.devices)]
    paths = [format_path((kind, name)) for kind, names in parts for name in names]
    return [path for path in paths if path.startswith(begun)]


def network_names(ctx: click.Context, _parameter: click.Parameter, begun: str) -> Completions:
    """Networks of the plan that the command line names."""
    plan = _plan_of(ctx)
    return [name for name in plan.networks if name.startswith(begun)] if plan else []


def device_names(ctx: click.Context, _parameter: click.Parameter, begun: str) -> Completions:
    """Devices of the plan that the command line names."""
    plan = _plan_of(ctx)
    return [name for name in plan.devices if name.startswith(begun)] if plan else []


def dialect_names(_ctx: click.Context, _parameter: click.Parameter, begun: str) -> Completions:
    """Dialects that come with the program, and the user's."""
    from reservoir.dialects.sheet.library import Library  # late: only when the shell asks

    return [name for name in Library().names if name.startswith(begun)]


def _plan_of(ctx: click.Context) -> Plan | None:
    """The plan that the command line names, if there is one that loads."""
    from reservoir.core.problems import InputError
    from reservoir.files.plan_file import load_plan
    from reservoir.files.recognising import is_plan

    # An option still without its value keeps Click from taking the words before it apart.
    named = (ctx.params.get("plan"), ctx.params.get("into"))
    given = (*(ctx.params.get("inputs") or ctx.params.get("sides") or ()), *named)
    for file in (*filter(None, given), *ctx.args):
        try:
            if file != "-" and is_plan(file):
                return load_plan(file).plan
        except InputError:
            continue
    return None
