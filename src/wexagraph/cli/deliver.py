"""`wexagraph deliver DIR --into PLACE`"""

from __future__ import annotations

from datetime import datetime, time, timedelta
from pathlib import Path

import click

from wexagraph.cli.exits import INTERRUPTED, OK, SOME_FAILED
from wexagraph.cli.parameters import DRY_RUN, FOLDER, JSON, QUIET, complete_places
from wexagraph.cli.progress import Display, stoppable
from wexagraph.cli.reports import amount, counted, print_json, print_planned, print_undelivered
from wexagraph.cli.session import prompt
from wexagraph.errors import CallError
from wexagraph.text import one_line, size


@click.command("deliver")
@FOLDER
@click.option(
    "--into",
    metavar="PLACE",
    shell_complete=complete_places,
    help="A folder that is there, sftp:// or davs://user@host/folder, s3://KEY@host/bucket/folder, or @NAME.",
)
@click.option("--links", is_flag=True, help="Print the address of each file there.")
@click.option(
    "--until",
    metavar="DATE",
    help="With --links to s3://: who has the address needs no keys, until the end of that day.",
)
@DRY_RUN
@QUIET
@JSON
@click.pass_context
def command(
    context: click.Context,
    folder: str,
    into: str | None,
    links: bool,
    until: str | None,
    dry_run: bool,
    quiet: bool,
    as_json: bool,
) -> int:
    """Put what was made in DIR where others see it: an export, a case, all cases, a backup, or one file.

    PLACE gets a mirror of it under its name: what is new is added, what has changed here is replaced, what is no longer
    here is removed, as long as it is what was delivered. Files of others are left, and named. Each file is read back
    before it gets its name.
    """
    from wexagraph.app.places import deliver_to, known_places

    if until and not links:
        raise CallError("--until is said of addresses: add --links.")
    root = Path(folder).expanduser()
    if not root.exists():
        raise CallError(f"{one_line(folder)} does not exist.")
    if into is None:
        known = ", ".join(map(one_line, known_places(root, context.obj.configuration))) or "none yet"
        raise CallError(
            f"--into PLACE is missing: it says where {one_line(folder)} goes. Places that you have used: {known}. "
            "`wexagraph place add` names another."
        )
    display = Display(("delivery",), "files")
    with display, stoppable(display) as stopped:
        report = deliver_to(
            *(into, root, context.obj.configuration, prompt()),
            dry=dry_run,
            links=links,
            until=_end_of(until) if until else None,
            progress=display.update,
            stopped=stopped,
        )
    if as_json:
        print_json(report.as_dict())
    elif dry_run:
        print_planned(report.planned or [], ">Size")
        click.echo(
            f"{counted(report.written, 'file')} would be delivered, {report.already_there:,} already there, "
            f"{report.removed:,} removed; {size(report.bytes)} to {one_line(report.into)}. Nothing was written."
        )
    elif not quiet or report.written or report.removed or not report.complete:
        for address in report.links.values():
            click.echo(address)
        removed = f", {report.removed:,} removed" if report.removed else ""
        click.echo(
            f"{counted(report.written, 'file')} delivered, {report.already_there:,} already there{removed}, "
            f"{report.failed:,} failed; {amount(report)}."
        )
        click.echo(f"In:    {one_line(report.into)}")
    if not as_json:
        print_undelivered(report)
    if report.interrupted:
        return INTERRUPTED
    return OK if report.complete else SOME_FAILED


def _end_of(day: str) -> datetime:
    """The end of a day, in the zone of this machine. Raises CallError."""
    from wexagraph.selection.criteria import parse_day

    return datetime.combine(parse_day(day) + timedelta(days=1), time()).astimezone()
