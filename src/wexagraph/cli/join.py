"""`wexagraph join DIR`"""

from __future__ import annotations

from dataclasses import replace

import click

from wexagraph.app.commands.backup import volume_size as size_of
from wexagraph.app.rows import VOLUME_SIZE
from wexagraph.cli.options import option
from wexagraph.cli.parameters import CSV, DRY_RUN, FOLDER, JSON
from wexagraph.cli.reports import counted, print_as_csv, print_json, print_planned, refuse_csv
from wexagraph.cli.session import ask_passphrase
from wexagraph.text import one_line


@click.command("join")
@FOLDER
@option(replace(VOLUME_SIZE, help="A volume is at most this large; those of less than half are joined."))
@DRY_RUN
@CSV
@JSON
def command(folder: str, volume_size: str, dry_run: bool, as_csv: bool, as_json: bool) -> int:
    """Join the small volumes of the backup in DIR into few. The old ones go only when the new ones are proved."""
    from wexagraph.backups.join import join

    refuse_csv(as_csv, dry_run, "manifest-sha256.txt lists what a backup holds")
    report = join(
        folder,
        size_of(volume_size),
        tell=lambda text: click.echo(f"wexagraph: {text}", err=True),
        ask=ask_passphrase(),
        dry=dry_run,
    )
    if as_csv:
        return print_as_csv(report.planned or [])
    if as_json:
        print_json(report.as_dict())
        return 0
    old = sum(map(len, report.joined.values()))
    if not old:
        click.echo(f"Nothing to join: {one_line(folder)} has {counted(report.volumes, 'volume')}.")
    elif report.planned is not None:
        print_planned(report.planned, ">Size")
        click.echo(
            f"{old:,} volumes would be joined into {len(report.joined):,}; {one_line(folder)} would have "
            f"{report.volumes:,}. Nothing was written."
        )
    else:
        click.echo(
            f"{old:,} volumes joined into {len(report.joined):,}; {one_line(folder)} has {report.volumes:,} now."
        )
    return 0
