"""What a dry run has planned: a table for people, rows for programs."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

import click

from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.reports import counted
from wexagraph.cli.terminal import machine_output, make_console, make_table
from wexagraph.errors import CallError
from wexagraph.tables.columns import Column, heading, row
from wexagraph.text import one_line, size

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
