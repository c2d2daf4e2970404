"""`wexagraph backup SOURCE --into DIR`"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import click

from wexagraph.app.option_table import BACKUP
from wexagraph.cli.calls import Printers, carry_out
from wexagraph.cli.options import options
from wexagraph.cli.parameters import (
    SOURCE,
    afterwards_option,
    choosing,
    into_option,
    reporting,
)
from wexagraph.cli.reports import counted, print_plan, print_sums, seconds
from wexagraph.text import one_line, size

if TYPE_CHECKING:
    from wexagraph.backups.report import BackupReport


@click.command("backup")
@SOURCE
@choosing
@into_option("The folder of the backup; it is made if need be.")
@options(*BACKUP)
@afterwards_option("that a fresh verification has proved in the backup")
@reporting
@click.pass_context
def command(context: click.Context, source: str, into: str, **values: Any) -> int:
    """Copy the messages of SOURCE into an offline backup in DIR, or top one up.

    The same command again takes only what is new. Nothing is ever removed from a backup, and SOURCE is only read. DIR
    is a bag (BagIt) of ZIP files that opens without this program; README.txt in it says how.
    """
    with running() as tell:
        return carry_out(context, "backup", source, into, values, _PRINTERS, progress=tell)


def _print_plan(report: BackupReport) -> None:
    print_plan(report, "read and stored")
    if report.written:
        click.echo(f"Messages: {size(report.bytes)}, to {one_line(report.into)}")
    if report.changed:
        click.echo(f"Since the last run {report.changed:,} have changed flags.")
    if report.afterwards:
        click.echo(f"At the source: {counted(report.chosen, 'message')} {report.afterwards}.")


@contextmanager
def running() -> Iterator[Callable[[int, int], None]]:
    """Says on standard error, once a run takes a second, how many messages were looked at and stored."""
    start = last = time.monotonic()
    terminal = sys.stderr.isatty()
    shown = False

    def tell(read: int, added: int) -> None:
        nonlocal last, shown
        now = time.monotonic()
        if now - start < 1 or now - last < (0.1 if terminal else 5):
            return
        last = now
        rate = f", {read / (now - start):,.0f} a second"
        line = f"{read:,} messages looked at, {added:,} new{rate}"
        click.echo(f"\r{line}\x1b[K" if terminal else line, err=True, nl=not terminal)
        shown = True

    try:
        yield tell
    finally:
        if terminal and shown:
            click.echo("\r\x1b[K", err=True, nl=False)


def _print(report: BackupReport) -> None:
    print_sums(report, "new")
    flags = report.changed - report.elsewhere
    if report.elsewhere:
        click.echo(f"{counted(report.elsewhere, 'message')} there already, from another folder or mailbox.")
    if flags or report.gone:
        click.echo(
            f"Since the last run {flags:,} have changed flags, {report.gone:,} are gone from the source; the backup "
            "keeps them."
        )
    if report.scans is not None:
        click.echo(f"Scans: {counted(report.scans, 'attachment')} read, {report.scan_words or 0:,} words recognised.")
    new = f", {counted(report.volumes, 'new volume')}" if report.volumes else ""
    click.echo(
        f"Backup: {one_line(report.into)}, run {report.run}: {counted(report.messages, 'message')} in all{new}; "
        f"{size(report.bytes)} written in {seconds(report.seconds)}."
    )


_PRINTERS = Printers(_print, _print_plan, "`wexagraph list BACKUP --csv` is the table of a backup")
