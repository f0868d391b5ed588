"""``reservoir demo``: the job from start to end on the ferry line's data."""

from __future__ import annotations

from importlib import resources
from pathlib import Path

import click

from reservoir.cli.output import talkative

FOLDER = "ferry-line"

NOON = "2027-03-31T12:00:00+00:00"
"""The time of the demo's lease list, so that what is said of it is always the same."""


@click.command("demo", short_help="Walk through an example.")
@click.argument("folder", default=FOLDER)
@click.option(
    "--force", is_flag=True, help="Overwrite files that were edited since they were written."
)
@talkative
def command(folder: str, force: bool) -> None:
    """Create FOLDER with the plan of a ferry line and walk through the job, to the last report.

    The plan is there twice: as written in a hurry, and corrected.

    \b
    Examples:
      reservoir demo
      reservoir demo /tmp/ferry-line
    """
    root = Path(folder)
    hurried, right = root / "hurried", root / "right"
    for part in (hurried, right):
        _lay_out(part, PLAN, force)
    plan = "ferry-line.yaml"
    _say(f"The Sable Harbour ferry line has written its DHCP plan in a hurry: {hurried / plan}.")
    _run("check", str(hurried / plan), "--fail-on", "never")
    _say("Where only one thing can have been meant, mend puts it right.")
    _run("mend", str(hurried / plan))
    _say(f"The rest takes someone who knows the site. {right / plan} is the corrected plan.")
    _run("check", str(right / plan))
    _say("Simulated clients get their addresses from simulated devices: first of the hurried plan.")
    _run("rehearse", str(hurried / plan), may_fail=True)
    _run("rehearse", str(right / plan))
    _say("A plan without errors is written for each device in its own dialect.")
    _run("write", str(right / plan), *(["--force"] if force else []))
    _show(right / "configuration" / "depot-router.larkspur")
    _say("The pier router runs something else. Who notices, if it becomes what is planned?")
    running, change = root / "running" / "pier-router.larkspur", root / "change"
    _lay_out(root / "running", RUNNING, force)
    _run("compare", str(running), str(right / plan), "--leases", str(root / "running/leases.csv"),
         "--now", NOON, "--script", str(change), *(["--force"] if force else []))  # fmt: skip
    _say("What the router prints of its leases is read as it is.")
    _run("leases", str(root / "running/printed-leases.txt"), "--plan", str(right / plan),
         "--now", NOON)  # fmt: skip
    _say("These statements lead there. It is safe to stop after each; undo-… is the way back.")
    _show(change / "pier-router.larkspur")
    _say("In the hurried plan passengers hold more addresses than the range has, from the third "
         "sailing on. With the corrected lease there is room for all.")  # fmt: skip
    for part in (hurried, right):
        figure = root / f"passenger-wifi-{part.name}.png"
        _run("size", str(part / plan), "--network", "passenger-wifi", "--figure", str(figure),
             may_fail=True)  # fmt: skip
    _run("size", str(right / plan))
    _say("What each address is for, and what is free.")
    _run("map", str(right / plan))
    _run("map", str(right / plan), "--figure", str(root / "map.svg"))
    _say("Who has this address, and what is that client?")
    _run("find", "10.84.20.30", "00:00:5e:00:53:40", str(right / plan))
    _say("One network more: subnet and tag are suggested, the sub-interface comes with it.")
    _run("new", "--into", str(right / plan), "--network", "lounge", "--device", "pier-router",
         "--clients", "120", "--yes")  # fmt: skip
    _say("The same sheets read device configuration back into a plan; check takes it directly.")
    files = sorted(str(path) for path in (right / "configuration").iterdir() if path.name[0] != ".")
    _run("read", *files, "--out", str(root / "read-back.yaml"))
    _run("check", *files)
    _say("A box on the quay has a format that nobody has described. The plan for samples was typed "
         "into it; what it saved becomes a sheet, and the sheet reads the box.")  # fmt: skip
    _learn(root / "unknown", force)
    _say("All of it in one page, for the change request.")
    leases = str(root / "running/leases.csv")
    _run("report", str(right / plan), "--running", str(running), "--leases", leases,
         "--now", NOON, "--out", str(root / "report.html"))  # fmt: skip
    _say(f"Open {root / 'report.html'} in a browser; the figures are in {root}. "
         f"Change {hurried / plan}, and check it again.")  # fmt: skip


PLAN = ("ferry-line.yaml", "bindings.csv", "inventory.csv")
UNKNOWN = ("quay-box.txt",)
RUNNING = ("pier-router.larkspur", "leases.csv", "printed-leases.txt")


def _learn(folder: Path, force: bool) -> None:
    """Learn the format of the box, and read its configuration."""
    _lay_out(folder, UNKNOWN, force)
    sample, plan = str(folder / UNKNOWN[0]), str(folder / "sample-plan.yaml")
    sheet = str(folder / "dialects" / "quay-box.sheet")
    forced = ["--force"] if force else []
    _run("dialect", "learn", "--plan-for-sample", "--out", plan, *forced)
    _run("dialect", "learn", sample, "--plan", plan, "--answer", "3=service", "--yes",
         "--out", sheet, *forced)  # fmt: skip
    _run("read", sample, "--dialect", "quay-box", "--out", str(folder / "read.yaml"))


def _lay_out(folder: Path, names: tuple[str, ...], force: bool) -> None:
    """Put the demo's files of a folder of that name into it."""
    from reservoir.files.deliveries import Delivery, deliver  # late: --help needs none of it

    source = resources.files("reservoir.demo") / folder.name
    deliveries = [Delivery(name, (source / name).read_text(encoding="utf-8")) for name in names]
    deliver(folder, deliveries, force)


def _say(text: str) -> None:
    click.echo(click.style(f"\n# {text}", bold=True))


def _run(*arguments: str, may_fail: bool = False) -> None:
    from reservoir.cli.commands import reservoir

    click.echo(click.style(f"\n$ reservoir {' '.join(arguments)}", fg="blue") + "\n")
    color = click.get_current_context().color
    chosen = {None: "auto", True: "always", False: "never"}[color]
    status = reservoir.main(
        [*arguments, "--color", chosen], prog_name="reservoir", standalone_mode=False
    )
    if status and not may_fail:
        raise click.exceptions.Exit(status)


def _show(file: Path) -> None:
    click.echo(click.style(f"\n$ cat {file}", fg="blue") + "\n")
    click.echo(file.read_text(encoding="utf-8"), nl=False)
