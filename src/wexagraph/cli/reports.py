"""What a command has done, told in words or as JSON, and the exit code that follows. The one printer of reports."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wexagraph.cli.exits import GOES_ON, INTERRUPTED, OK, SOME_FAILED
from wexagraph.cli.terminal import machine_output, make_console, make_table
from wexagraph.errors import CallError
from wexagraph.notes import CODES
from wexagraph.reports import ExportReport, Report
from wexagraph.tables.columns import Column, heading, row
from wexagraph.text import one_line, size, to_json

if TYPE_CHECKING:
    from wexagraph.reports import PlannedFile, Report

PLANNED: list[Column[PlannedFile]] = [
    Column("path", lambda file: one_line(file.path)),
    Column("state", lambda file: file.state),
    Column("format", lambda file: file.format),
    Column("id", lambda file: file.id),
    Column("folder", lambda file: one_line(file.folder)),
    Column("subject", lambda file: file.subject),
    Column("size", lambda file: file.size),
]
"""The columns of a dry run."""
_MOST = 50
SHOWN = 20


def conclude(report: Report, as_json: bool, in_words: Callable[[], None], quiet: bool = False) -> int:
    """Tell what was done: the sums by `in_words`, then what went wrong and what to know; `quiet`, only where something
    is new or wrong. Returns the exit code."""
    if quiet and report.complete and not report.written:
        return OK
    if as_json:
        print_json(report.as_dict())
    else:
        in_words()
        _print_the_rest(report)
    if report.interrupted:
        return INTERRUPTED
    return OK if report.complete else SOME_FAILED


def print_json(value: object) -> None:
    """A value as JSON on standard output."""
    machine_output()
    click.echo(to_json(value))


def print_sums(report: Report, written: str = "written") -> None:
    """The sums over messages, on a line."""
    sums = f"{report.written:,} {written}, {report.already_there:,} already there, {report.failed:,} failed"
    done = f"{counted(report.chosen, 'message')} chosen"
    if report.interrupted:
        of_all = f"{report.chosen:,} of " if report.total else ""
        done = f"{of_all}{counted(report.total or report.chosen, 'message')} done"
    click.echo(f"{done}: {sums}.")


def print_afterwards(report: Report) -> None:
    """What was changed at the source."""
    if report.changed_at_the_source is not None:
        said = report.afterwards or "changed"
        click.echo(f"At the source: {counted(report.changed_at_the_source, 'message')} {said}.")
    _print_some(
        [f"Left alone at the source: {one_line(w)}: {one_line(r)}" for w, r in report.left_at_the_source], "red"
    )


def print_place(report: Report) -> None:
    """Where the results are, where there are any: a folder of nothing is not made."""
    if report.is_empty and not Path(report.into).exists():
        return
    click.echo(f"In:    {one_line(report.into)}")


def _print_the_rest(report: Report) -> None:
    if report.why_none:
        click.echo(one_line(report.why_none))
    for exception in report.idle:
        click.echo(f"--except {one_line(exception)} has left out nothing.")
    print_seal(report)
    print_delivery(report)
    print_afterwards(report)
    if report.notes:
        click.echo("Notes (all are in the register, most also on their page):")
        for code, count in report.notes.most_common():
            click.secho(f"  {count:>6,}  {CODES[code]}", dim=True)
    for failure in report.failures[:SHOWN]:
        subject = f" ({one_line(failure.subject)[:60]})" if failure.subject else ""
        where = f"{failure.id}{subject} in {one_line(failure.folder)}"
        click.secho(f"Failed: {where}: {one_line(failure.reason)}", fg="red")
    if report.failed > SHOWN:
        click.secho(f"... and {report.failed - SHOWN:,} more failed.", fg="red")
    _print_some([f"Not read: {one_line(where)}: {one_line(reason)}" for where, reason in report.unreadable], "red")
    if report.unknown_ids:
        ids = ", ".join(one_line(id) for id in report.unknown_ids[:SHOWN])
        click.secho(f"Not found: {ids}. `wexagraph list` gives the IDs of a source.", fg="red")
    if report.interrupted:
        click.echo(f"Stopped. {GOES_ON}")


def print_seal(report: Report) -> None:
    """By whom a list of checksums was sealed, and whether it is stamped."""
    if report.sealed:
        click.echo(f"Sealed by {one_line(report.sealed)}.")
    if isinstance(report, ExportReport) and report.sealed_each:
        click.echo(f"Sealed each by itself: {counted(report.sealed_each, 'PDF')}.")
    if report.stamped is not None:
        click.echo(f"Stamped: {report.stamped:%Y-%m-%d %H:%M:%S} UTC.")
    if report.unstamped:
        click.secho(
            f"Not stamped: {one_line(report.unstamped)}. The files are there; `wexagraph seal DIR --stamp URL` catches "
            "up.",
            fg="red",
        )


def print_delivery(report: Report) -> None:
    """What went to a place at the end of a run, and why something did not."""
    delivery = report.delivery
    if delivery is not None:
        sums = (
            f"{counted(delivery.written, 'file')}, {delivery.already_there:,} already there, {delivery.failed:,} failed"
        )
        click.echo(f"Delivered: {sums}; to {one_line(delivery.into)}")
        print_undelivered(delivery)
    if report.undelivered:
        click.secho(f"Not delivered: {one_line(report.undelivered)}", fg="red")


def print_undelivered(delivery: Report) -> None:
    """The files that did not get to a place, and why."""
    for failure in delivery.failures[:SHOWN]:
        click.secho(f"Not delivered: {one_line(failure.id)}: {one_line(failure.reason)}.", fg="red", err=True)
    if delivery.failed > SHOWN:
        click.secho(f"... and {delivery.failed - SHOWN:,} more.", fg="red", err=True)
    for where, reason in delivery.unreadable:
        click.secho(f"Without links: {one_line(where)}: {one_line(reason)}.", fg="red", err=True)


def print_on_paper(paths: list[Path], printer: str) -> bool:
    """Hand PDFs to the printer, and say how many it took. Returns whether it took all."""
    from wexagraph.app.printing import print_all

    printed = print_all(paths, printer)
    where = f" to {one_line(printer)}" if printer else ""
    click.echo(f"Printed: {counted(printed.count, 'PDF')}{where}, {len(printed.refused):,} refused.", err=True)
    for path, reason in printed.refused[:SHOWN]:
        click.secho(f"Not printed: {one_line(path)}: {one_line(reason)}", fg="red", err=True)
    return not printed.refused


def _print_some(lines: list[str], colour: str) -> None:
    for line in lines[:SHOWN]:
        click.secho(line, fg=colour)
    if len(lines) > SHOWN:
        click.secho(f"... and {len(lines) - SHOWN:,} more of these.", fg=colour)


def counted(number: int, noun: str) -> str:
    """A number and its noun: "1 message", "1,204 messages"."""
    return f"{number:,} {noun}{'s' * (number != 1)}"


def amount(report: Report) -> str:
    """What was written, and in which time."""
    return f"{size(report.bytes)} in {seconds(report.seconds)}"


def seconds(count: float) -> str:
    """A span of time for people."""
    return f"{count:.1f} s" if count < 90 else f"{count / 60:.1f} min"


def refuse_csv(as_csv: bool, dry_run: bool, instead: str) -> None:
    """Raise CallError where a table is asked for of a run that is no dry one; `instead` says where its table is."""
    if as_csv and not dry_run:
        raise CallError(f"--csv is for --dry-run: {instead}.")


def print_planned(files: list[PlannedFile], sized: str) -> None:
    """The first files of a plan; `sized` is the heading over their sizes."""
    table = make_table("Would write", "State", sized)
    for file in files[:_MOST]:
        named = file.path or f"{file.folder}: {file.subject or file.id}"
        table.add_row(one_line(named), file.state, size(file.size))
    if files:
        make_console().print(table)
    if len(files) > _MOST:
        click.echo(f"... and {len(files) - _MOST:,} more; --csv lists them all.")


def print_plan(report: Report, done: str) -> None:
    """The messages of a plan, and the sums: how many would be `done`."""
    print_planned(report.planned or [], ">Message")
    click.echo(
        f"{counted(report.chosen, 'message')} chosen: {report.written:,} would be {done}, {report.already_there:,} "
        "already there. Nothing was written."
    )


def print_as_csv(files: list[PlannedFile], complete: bool = True) -> int:
    """All files of a plan on standard output. Returns the exit code."""
    machine_output()
    sys.stdout.write(heading(PLANNED))
    for file in files:
        sys.stdout.write(row(PLANNED, file))
    return OK if complete else SOME_FAILED
