"""`wexagraph join DIR`"""

from __future__ import annotations

import click

from wexagraph.cli.backup import volume_size
from wexagraph.cli.parameters import FOLDER, JSON
from wexagraph.cli.reports import print_json
from wexagraph.cli.session import ask_passphrase
from wexagraph.text import one_line


@click.command("join")
@FOLDER
@click.option(
    "--volume-size",
    "limit",
    default="1GB",
    show_default=True,
    metavar="SIZE",
    help="A volume is at most this large; those of less than half are joined.",
)
@JSON
def command(folder: str, limit: str, as_json: bool) -> int:
    """Join the small volumes of the backup in DIR into few. The old ones go only when the new ones are proved."""
    from wexagraph.backups.join import join

    report = join(
        folder, volume_size(limit), tell=lambda text: click.echo(f"wexagraph: {text}", err=True), ask=ask_passphrase()
    )
    if as_json:
        print_json(report.as_dict())
        return 0
    old = sum(map(len, report.joined.values()))
    if not old:
        click.echo(f"Nothing to join: {one_line(folder)} has {report.volumes:,} volume{'s' * (report.volumes != 1)}.")
    else:
        click.echo(
            f"{old:,} volumes joined into {len(report.joined):,}; {one_line(folder)} has {report.volumes:,} now."
        )
    return 0
