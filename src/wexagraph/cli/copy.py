"""`wexagraph copy BACKUP --into DIR`"""

from __future__ import annotations

import click

from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.parameters import BACKUP, CSV, DRY_RUN, JSON, QUIET, into_option
from wexagraph.cli.reports import counted, print_as_csv, print_json, print_planned, refuse_csv
from wexagraph.text import one_line, size


@click.command("copy")
@BACKUP
@into_option("The folder of the copy; it is made if need be.")
@DRY_RUN
@QUIET
@CSV
@JSON
def command(backup: str, into: str, dry_run: bool, quiet: bool, as_csv: bool, as_json: bool) -> int:
    """Make a copy of BACKUP on another disk, or bring one up to date. Each file is proved, all are verified."""
    from wexagraph.backups.copying import copy

    refuse_csv(as_csv, dry_run, "manifest-sha256.txt lists what a backup holds")
    report = copy(backup, into, dry=dry_run)
    if as_csv:
        return print_as_csv(report.planned or [])
    if as_json:
        print_json(report.as_dict())
    elif report.planned is not None:
        print_planned(report.planned, ">Size")
        click.echo(
            f"{counted(len(report.copied), 'file')} would be copied, {report.already_there:,} already there, "
            f"{len(report.removed):,} removed; {size(report.bytes)} to {one_line(into)}. Nothing was written."
        )
    elif not quiet or report.copied or report.removed or not report.verification.whole:
        removed = f", {len(report.removed):,} that were joined removed" if report.removed else ""
        click.echo(
            f"{counted(len(report.copied), 'file')} copied, {report.already_there:,} already there{removed}; "
            f"{size(report.bytes)} written to {one_line(into)}."
        )
        for finding in report.verification.findings:
            click.secho(f"{finding.state.capitalize()}: {one_line(finding.path)}", fg="red")
        if report.verification.whole:
            click.echo("The copy was verified: every checksum is right.")
    return OK if report.verification.whole else SOME_FAILED
