"""`wexagraph copy BACKUP --into DIR`"""

from __future__ import annotations

import click

from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.parameters import BACKUP, JSON, into_option
from wexagraph.cli.reports import print_json
from wexagraph.text import one_line, size


@click.command("copy")
@BACKUP
@into_option("The folder of the copy; it is made if need be.")
@JSON
def command(backup: str, into: str, as_json: bool) -> int:
    """Make a copy of BACKUP on another disk, or bring one up to date. Each file is proved, all are verified."""
    from wexagraph.backups.copying import copy

    report = copy(backup, into)
    if as_json:
        print_json(report.as_dict())
    else:
        removed = f", {len(report.removed):,} that were joined removed" if report.removed else ""
        click.echo(
            f"{len(report.copied):,} files copied, {report.already_there:,} already there{removed}; "
            f"{size(report.bytes)} written to {one_line(into)}."
        )
        for finding in report.verification.findings:
            click.secho(f"{finding.state.capitalize()}: {one_line(finding.path)}", fg="red")
        if report.verification.whole:
            click.echo("The copy was verified: every checksum is right.")
    return OK if report.verification.whole else SOME_FAILED
