"""``reservoir schema``: the JSON Schemas of the plan, and of what commands print as JSON."""

from __future__ import annotations

import json

import click

from reservoir.cli.output import save_or_show, talkative
from reservoir.reports.outputs import OUTPUTS


@click.command("schema", short_help="Print the JSON Schema of the plan or of a command's JSON.")
@click.argument("what", default="plan", type=click.Choice(["plan", *OUTPUTS]))
@click.option("-o", "--out", metavar="FILE", help="Write the schema to a file.")
@talkative
def command(what: str, out: str | None) -> None:
    """Print the JSON Schema of the plan file, so that editors complete and check it.

    Named after a command, the schema describes what that command prints with --format json.

    \b
    Examples:
      reservoir schema --out plan.schema.json
      reservoir schema check --out findings.schema.json
    """
    if what == "plan":
        from reservoir.files.plan_schema import plan_schema  # late: --help needs none of it

        described = plan_schema()
    else:
        from reservoir.reports.outputs import schema_of  # late: --help needs none of it

        described = schema_of(what)
    schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", **described}
    save_or_show(json.dumps(schema, indent=2) + "\n", out)
