"""``reservoir convert``: one device's configuration in another dialect."""

from __future__ import annotations

import click

from reservoir.cli.output import save_or_show, talk, talkative


@click.command("convert", short_help="Carry a device's configuration to another dialect.")
@click.argument("configuration", metavar="FILE")
@click.option("--to", "target", metavar="NAME", required=True, help="The dialect to carry it to.")
@click.option("--dialect", metavar="NAME", help="The file's dialect; recognised if not given.")
@click.option("-o", "--out", metavar="FILE", help="Put the result into a file.")
@talkative
def command(configuration: str, target: str, dialect: str | None, out: str | None) -> None:
    """Write the configuration in FILE in another dialect, and list what was not carried over.

    \b
    reservoir convert configuration/pier-router.larkspur --to merganser

    Exit status: 0 all was carried over, 1 something was not, 2 the file can't be used.
    """
    import reservoir  # late: --help needs none of it
    from reservoir.dialects.converting import convert
    from reservoir.dialects.sheet.library import beside

    sheet = beside(configuration).sheet(target)
    (read,) = reservoir.read([configuration], dialect)
    result = convert(read, sheet)
    save_or_show(result.text, out)
    lost = [f"line {unread.line}: {unread.message}" for unread in read.reading.unread]
    lost += [f"{refusal.what}: {refusal.reason}" for refusal in result.losses]
    lost += [obstacle.message for obstacle in result.obstacles]
    if not result.losses:
        lost += [f"different when read again: {difference}" for difference in result.differences]
    for text in lost:
        click.echo(f"not carried over: {text}", err=True)
    for refusal in result.refusals:
        if refusal.is_remark:
            talk(f"left out, since nothing there depends on it: {refusal.what}")
    for note in read.lifted.notes:
        talk(f"{note.about}: {note.text}")
    talk(
        f"{configuration}: {read.lifted.name} from {read.dialect} to {target}; "
        f"pools {result.pools:,}, bindings {result.bindings:,}, "
        f"lines about other things {read.reading.foreign:,}"
    )
    if lost:
        raise click.exceptions.Exit(1)
