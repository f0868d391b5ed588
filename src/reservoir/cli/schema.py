"""``reservoir schema``: the plan's JSON Schema."""

from __future__ import annotations

import json

import click

from reservoir.cli.output import save_or_show, talkative


@click.command("schema", short_help="Print the JSON Schema of the plan, for editors.")
@click.option("-o", "--out", metavar="FILE", help="Write the schema to a file.")
@talkative
def command(out: str | None) -> None:
    """Print the JSON Schema of the plan file, so that editors complete and check it.

    \b
    Examples:
      reservoir schema --out plan.schema.json
    """
    from reservoir.core.plan.model import PlanFile  # late: --help needs none of it

    schema = {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **PlanFile.model_json_schema(),
    }
    save_or_show(json.dumps(schema, indent=2) + "\n", out)
