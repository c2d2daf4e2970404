"""`wexagraph restore BACKUP [CHOICE] --into TARGET`"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from wexagraph.app.locales import zone_name
from wexagraph.app.option_table import NAME
from wexagraph.app.rows import FILES, Flag, Option
from wexagraph.backups.restore import restore
from wexagraph.backups.source import BackupSource
from wexagraph.cli.backup import running
from wexagraph.cli.options import option
from wexagraph.cli.parameters import BACKUP, CSV, DRY_RUN, JSON, QUIET, choosing, into_option, make_choice, opened
from wexagraph.cli.progress import Display, stoppable
from wexagraph.cli.reports import conclude, counted, print_as_csv, print_plan, print_sums, refuse_csv
from wexagraph.cli.session import may_ask
from wexagraph.errors import CallError
from wexagraph.naming.patterns import NamePattern
from wexagraph.output.sinks import open_sink
from wexagraph.output.sinks.base import Sink
from wexagraph.output.sinks.imap import ImapSink
from wexagraph.reports import Report
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import Source
from wexagraph.sources.imap import ImapSource
from wexagraph.temporary import TemporaryFolder
from wexagraph.text import one_line, size


@click.command("restore")
@BACKUP
@choosing
@into_option(
    "An mbox (NAME.mbox), a ZIP (NAME.zip), a Maildir (maildir:PATH), an IMAP account (URL or @NAME), "
    "else a folder for EML files.",
    "TARGET",
)
@option(
    Option(
        "by-folder", "With an mbox: one a folder, below a folder of that name.", False, Flag(), section=FILES, safe=True
    )
)
@option(replace(NAME, help="Of EML files: name pattern; a part of the digest stands behind it.", default=None))
@click.option("--make-folder", is_flag=True, help="Make the folder that the account's URL names.")
@click.option("--yes", is_flag=True, help="Do not ask before messages are put into an account.")
@DRY_RUN
@QUIET
@CSV
@JSON
@click.pass_context
def command(
    context: click.Context,
    backup: str,
    into: str,
    by_folder: bool,
    name: str | None,
    make_folder: bool,
    yes: bool,
    dry_run: bool,
    quiet: bool,
    as_csv: bool,
    as_json: bool,
    **values: Any,
) -> int:
    """Give the chosen messages of BACKUP to TARGET, with their folders, flags and arrival dates.

    An account gets them in their folders, which are made where they are not there; one with a folder in its URL gets
    all of them in that one. It is asked before anything is put into an account.

    A message that is in TARGET already is not put there again, so the same command goes on where it was.
    """
    if by_folder and not into.lower().endswith(".mbox"):
        raise CallError("--by-folder is for an mbox: name a target that ends in .mbox.")
    refuse_csv(as_csv, dry_run, "`wexagraph list TARGET --csv` is the table of what lies there")
    choice, pattern = make_choice(values, zone_name(None)), NamePattern(name) if name is not None else None
    with opened(context, backup) as mailbox:
        if not isinstance(mailbox, BackupSource):
            raise CallError(f"{backup} is not a backup but a mailbox; `wexagraph export` makes files of one.")
        with _sink(context, into, by_folder, mailbox.location, dry_run) as sink:
            if pattern is not None and not sink.names_files:
                raise CallError("--name is for EML files: name a folder or a ZIP as the target.")
            if isinstance(sink, ImapSink) and not dry_run:
                _allowed(sink, mailbox, choice, into, make_folder, yes)
            with running() as tell, stoppable(Display(("restore",))) as stopped:
                report = restore(
                    *(mailbox, sink, into, choice),
                    progress=lambda count: tell(count, count),
                    stopped=stopped,
                    dry=dry_run,
                    pattern=pattern,
                )
    if as_csv:
        return print_as_csv(report.planned or [], report.complete)
    return conclude(report, as_json, lambda: _print(report), quiet and not dry_run)


def _allowed(sink: ImapSink, mailbox: BackupSource, choice: Choice, into: str, make_folder: bool, sure: bool) -> None:
    """Ask before an account is written to. Raises CallError where it may not be."""
    if sink.lacks_folder and not make_folder:
        raise CallError(f"{one_line(into)} names a folder that is not there. --make-folder makes it.")
    if sure:
        return
    may_ask(sure, "messages are to be put into an account")
    count = sum(1 for _ in choice.settled(mailbox).select(mailbox))
    where = (
        f"the folder {one_line(sink.folder)} of {one_line(into)}"
        if sink.folder
        else f"{one_line(into)}, into their folders"
    )
    if count and not click.confirm(f"Put {counted(count, 'message')} into {where}?", err=True):
        raise click.Abort


def _print(report: Report) -> None:
    if report.planned is None:
        print_sums(report, "given back")
    else:
        print_plan(report, "given back")
    click.echo(f"In:    {one_line(report.into)}, {size(report.bytes)}")


@contextmanager
def _sink(context: click.Context, into: str, by_folder: bool, backup: str, dry: bool) -> Iterator[Sink]:
    with TemporaryFolder() if dry else nullcontext() as empty:
        if "://" not in into and not into.startswith("@"):
            yield open_sink(into, by_folder, backup, empty)
            return
        account, folder = context.obj.open_target(into)
        with account:
            yield _sink_at(account, folder, into, by_folder, backup, empty)


def _sink_at(account: Source, folder: str, into: str, by_folder: bool, backup: str, empty: Path | None) -> Sink:
    if isinstance(account, ImapSource):
        return ImapSink(account, folder)
    if into.startswith("@"):
        return open_sink(account.location, by_folder, backup, empty)
    raise CallError(f"{into} can't take messages: an IMAP account can.")
