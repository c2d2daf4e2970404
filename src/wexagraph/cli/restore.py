"""`wexagraph restore BACKUP [CHOICE] --into TARGET`"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import click

from wexagraph.backups.restore import restore
from wexagraph.backups.source import BackupSource
from wexagraph.cli.backup import running
from wexagraph.cli.exits import INTERRUPTED, OK, SOME_FAILED
from wexagraph.cli.parameters import BACKUP, choosing, into_option, make_choice, opened, zone_name
from wexagraph.cli.progress import Display, stoppable
from wexagraph.errors import CallError
from wexagraph.output.sinks import open_sink
from wexagraph.output.sinks.base import Sink
from wexagraph.output.sinks.imap import ImapSink
from wexagraph.sources.imap import ImapSource
from wexagraph.text import one_line, size, to_json

_SHOWN = 20


@click.command("restore")
@BACKUP
@choosing
@into_option(
    "An mbox (NAME.mbox), a ZIP (NAME.zip), a Maildir (maildir:PATH), an IMAP account (URL or @NAME), "
    "else a folder for EML files.",
    "TARGET",
)
@click.option("--by-folder", is_flag=True, help="With an mbox: one a folder, below a folder of that name.")
@click.option("--json", "as_json", is_flag=True, help="The summary as JSON on standard output.")
@click.pass_context
def command(context: click.Context, backup: str, into: str, by_folder: bool, as_json: bool, **values: Any) -> int:
    """Give the chosen messages of BACKUP to TARGET, with their folders, flags and arrival dates.

    A message that is in TARGET already is not put there again, so the same command goes on where it was.
    """
    if by_folder and not into.lower().endswith(".mbox"):
        raise CallError("--by-folder is for an mbox: name a target that ends in .mbox.")
    choice = make_choice(values, zone_name(None))
    with opened(context, backup) as mailbox:
        if not isinstance(mailbox, BackupSource):
            raise CallError(f"{backup} is no backup but a mailbox; `wexagraph export` makes files of one.")
        with (
            _sink(context, into, by_folder, mailbox.location) as sink,
            running() as tell,
            stoppable(Display(("restore",))) as stopped,
        ):
            report = restore(mailbox, sink, into, choice, progress=lambda count: tell(count, count), stopped=stopped)
    if as_json:
        from wexagraph.cli.terminal import machine_output

        machine_output()
        click.echo(to_json(report.as_dict()))
    else:
        click.echo(f"{report.read:,} message{'s' * (report.read != 1)} read: {report.written:,} given back, "
                   f"{report.already:,} there already, {report.failed:,} failed.")  # fmt: skip
        click.echo(f"In:    {one_line(into)}, {size(report.bytes)}")
        for id, folder, reason in report.failures[:_SHOWN]:
            click.secho(f"Failed: {id} in {one_line(folder)}: {one_line(reason)}", fg="red")
    if report.interrupted:
        return INTERRUPTED
    return OK if report.complete else SOME_FAILED


@contextmanager
def _sink(context: click.Context, into: str, by_folder: bool, backup: str) -> Iterator[Sink]:
    if "://" not in into and not into.startswith("@"):
        yield open_sink(into, by_folder, backup)
        return
    with context.obj.open(into) as account:
        if isinstance(account, ImapSource):
            yield ImapSink(account)
        elif into.startswith("@"):
            yield open_sink(account.location, by_folder, backup)
        else:
            raise CallError(f"{into} can't take messages: an IMAP account can.")
