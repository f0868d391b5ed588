"""``reservoir convert``: one device's configuration in another dialect."""

from __future__ import annotations

import click

from reservoir.cli.output import complain, save_or_show, talk, talkative


@click.command("convert", short_help="Convert a device's configuration to another dialect.")
@click.argument("configuration", metavar="FILE")
@click.option("--to", "target", metavar="NAME", required=True, help="The dialect to convert to.")
@click.option("--dialect", metavar="NAME", help="The file's dialect (default: recognised).")
@click.option("-o", "--out", metavar="FILE", help="Write the result to a file.")
@talkative
def command(configuration: str, target: str, dialect: str | None, out: str | None) -> None:
    """Convert the configuration in FILE to another dialect, and list what was lost.

    \b
    Examples:
      reservoir convert configuration/pier-router.larkspur --to merganser

    Exit status: 0 nothing lost, 1 something lost, 2 unusable input.
    """
    import reservoir  # late: --help needs none of it
    from reservoir.core.wording import counted

    (read,) = reservoir.read([configuration], dialect)
    result = reservoir.convert(read, target)
    save_or_show(result.text, out)
    lost = [f"line {unread.line}: {unread.message}" for unread in read.not_understood]
    lost += [f"{refusal.what}: {refusal.reason}" for refusal in result.losses]
    lost += [obstacle.message for obstacle in result.obstacles]
    if not result.losses:
        lost += [f"different when read back: {difference}" for difference in result.faults]
    for text in lost:
        complain(f"lost: {text}")
    for refusal in result.remarks:
        talk(f"left out, since it changes nothing for clients: {refusal.what}")
    for note in read.lifted.notes:
        talk(f"{note.about}: {note.text}")
    talk(
        f"{configuration}: {read.lifted.name} from {read.dialect} to {target}; "
        f"{counted(result.pools, 'pool')}, {counted(result.bindings, 'binding')}, "
        f"{counted(read.reading.foreign, 'line')} not about DHCP"
    )
    if lost:
        raise click.exceptions.Exit(1)
