"""`wexagraph register SOURCE [CHOICE] --into FILE`"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from wexagraph.app.option_table import REGISTER
from wexagraph.cli.calls import Printers, carry_out
from wexagraph.cli.options import options
from wexagraph.cli.parameters import (
    DRY_RUN,
    JSON,
    NOTIFY,
    ONCE,
    QUIET,
    SOURCE,
    choosing,
    into_option,
)
from wexagraph.cli.reports import counted
from wexagraph.text import one_line, size

if TYPE_CHECKING:
    from wexagraph.app.registers import RegisterReport


@click.command("register")
@SOURCE
@choosing
@ONCE
@into_option("The table: .xlsx or .csv.", "FILE")
@options(*REGISTER)
@NOTIFY
@DRY_RUN
@QUIET
@JSON
@click.pass_context
def command(context: click.Context, source: str, into: str, **values: Any) -> int:
    """A table of the chosen messages of SOURCE that the office works in: a row a message.

    The same command again brings it up to date: new messages come behind, what is chosen no longer is marked in the
    column state, and all that colleagues did in the file stays. Each row is known by the column key, which is hidden.
    The version before stays beside it.
    """
    return carry_out(context, "register", source, into, values, Printers(_print, _print))


def _print(report: RegisterReport) -> None:
    dry = report.planned is not None
    new = "would be new" if dry else "new"
    click.echo(f"{counted(report.chosen, 'message')} chosen: {report.written:,} {new}, {report.already_there:,} there.")
    if report.updated - report.no_longer_chosen > 0 or report.no_longer_chosen:
        click.echo(
            f"Brought up to date: {counted(report.updated, 'row')}; chosen no longer: {report.no_longer_chosen:,}."
        )
    if report.changed_by_hand:
        click.echo(f"{counted(report.changed_by_hand, 'cell')} of ours changed by hand: left so.")
    for ours, theirs in report.renamed_columns:
        click.echo(f"The column {ours} is called {one_line(theirs)} now.")
    if report.deleted_columns:
        click.echo(f"Deleted by hand, and left so: {one_line(', '.join(report.deleted_columns))}.")
    if dry:
        click.echo("Nothing was written.")
    else:
        how = f", {size(report.bytes)}" if report.bytes else "; it is as it was"
        rest = "; the rest of the mailbox is not in it yet" if report.interrupted else ""
        click.echo(f"In:    {one_line(report.into)}, {counted(report.rows, 'row')}{how}{rest}")
