"""`wexagraph file SOURCE [CHOICE] --case REF` or `--by-plan`"""

from __future__ import annotations

import sys
from dataclasses import replace
from typing import Any

import click

from wexagraph.app.cases.filing import COLUMNS, FilingReport, Placed
from wexagraph.app.cases.records import records_folder
from wexagraph.app.option_table import FILE
from wexagraph.cli.calls import call_of, run_call
from wexagraph.cli.exits import INTERRUPTED, OK, SOME_FAILED
from wexagraph.cli.options import options
from wexagraph.cli.parameters import (
    ONCE,
    SOURCE,
    afterwards_option,
    choosing,
    reporting,
)
from wexagraph.cli.reports import counted, print_afterwards, print_delivery, print_json
from wexagraph.cli.terminal import machine_output, make_console, make_table
from wexagraph.tables.columns import heading, row
from wexagraph.text import one_line

_SHOWN, _UNFILED = 50, 12


@click.command("file")
@SOURCE
@choosing
@ONCE
@options(*FILE)
@click.option(
    "--unfiled", is_flag=True, help="Print the IDs of what fits no case on standard output, and nothing else."
)
@afterwards_option("that are filed and read back")
@reporting
@click.pass_context
def command(
    context: click.Context,
    source: str,
    unfiled: bool,
    dry_run: bool,
    quiet: bool,
    as_csv: bool,
    as_json: bool,
    **values: Any,
) -> int:
    """File messages of SOURCE into a case, or where the file plan says.

    By plan, the reference in the subject decides, then the conversation, then what the cases are about. What fits two
    cases goes to both; what fits none is named. A message is in a case once, however often it is filed.
    """
    call = call_of(context, "file", source, str(records_folder(values["records"])), values)
    said = {name: value for name, value in call.options.items() if value not in (None, False, (), [])}
    report = run_call(context, replace(call, options=said), values, dry=dry_run)
    _tell(report, dry_run, unfiled, as_csv, as_json, quiet)
    if not (unfiled or as_csv or as_json):
        print_delivery(report)
        print_afterwards(report)
    if report.interrupted:
        return INTERRUPTED
    return OK if report.complete else SOME_FAILED


def _tell(report: FilingReport, dry: bool, unfiled: bool, as_csv: bool, as_json: bool, quiet: bool) -> None:
    strange = [each for each in report.placed if not each.placement.cases]
    if unfiled:
        machine_output()
        for each in strange:
            sys.stdout.write(f"{each.envelope.id}\n")
    elif as_csv:
        machine_output()
        sys.stdout.write(heading(COLUMNS))
        for each in report.placed:
            sys.stdout.write(row(COLUMNS, each))
    elif as_json:
        print_json(report.as_dict())
    elif not quiet or not report.complete or any(one.written for one in report.reports.values()):
        _print(report, strange, dry)


def _print(report: FilingReport, strange: list[Placed], dry: bool) -> None:
    filed = [each for each in report.placed if each.placement.cases]
    if dry:
        table = make_table("Message", "From", "Goes to", "Because of")
        for each in filed[:_SHOWN]:
            header = each.envelope.header
            sender = one_line(header.sender.name or header.sender.address)
            table.add_row(
                one_line(header.subject), sender, one_line(", ".join(each.placement.cases)), each.placement.why
            )
        if filed:
            make_console().print(table)
        if len(filed) > _SHOWN:
            click.echo(f"... and {len(filed) - _SHOWN:,} more; --csv lists them all.")
    for name, one in report.reports.items():
        sums = f"{one.written:,} new, {one.already_there:,} there already, {one.failed:,} failed"
        click.echo(f"{one_line(name)}: {sums}. {one_line(one.into)}")
        for failure in one.failures[:10]:
            click.secho(
                f"Failed: {failure.id} ({one_line(failure.subject)[:60]}): {one_line(failure.reason)}", fg="red"
            )
    for both in [each for each in filed if len(each.placement.cases) > 1][:_SHOWN]:
        cases = one_line(" and ".join(both.placement.cases))
        click.echo(f"To {cases}: {one_line(both.envelope.header.subject)}")
    for each in strange[:_UNFILED]:
        why = f"nearest: {one_line(each.placement.guess)}" if each.placement.guess else each.placement.why
        guess = f" ({why})" if why else ""
        click.echo(f"Unfiled: {each.envelope.id}  {one_line(each.envelope.header.subject)}{guess}")
    if len(strange) > _UNFILED:
        click.echo(f"... and {len(strange) - _UNFILED:,} more; --unfiled prints the IDs of all.")
    for failed in report.refused[:_SHOWN]:
        click.secho(f"Failed: {failed.id} ({one_line(failed.subject)[:60]}): {one_line(failed.reason)}", fg="red")
    for where, reason in report.unreadable[:_SHOWN]:
        click.secho(f"Not read: {one_line(where)}: {one_line(reason)}", fg="red")
    done, end = ("would be filed", " Nothing was written.") if dry else ("filed", "")
    click.echo(f"{counted(len(report.placed), 'message')}: {len(filed):,} {done}, {len(strange):,} unfiled.{end}")
