"""`wexagraph survey SOURCE [CHOICE]`"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import click

from wexagraph.app.locales import zone_name
from wexagraph.app.rows import FILES, Option
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.options import option
from wexagraph.cli.parameters import CSV, JSON, SOURCE, ZONE, choosing, make_choice, opened, say_troubles
from wexagraph.cli.reports import counted, print_json
from wexagraph.cli.terminal import machine_output, make_console, make_table
from wexagraph.errors import CallError
from wexagraph.output.replacing import write_whole_file
from wexagraph.output.target import keep_apart
from wexagraph.pages.options import PageOptions
from wexagraph.tables.columns import csv_row
from wexagraph.tables.survey import DAYS, Survey, glimpses, survey
from wexagraph.text import one_line, size

_FORMS = {".png": "png", ".svg": "svg", ".pdf": "pdf"}
_BAR, _SHOWN = 40, 8


@click.command("survey")
@SOURCE
@choosing
@ZONE
@option(Option("into", "Draw it as one page: .png, .svg or .pdf.", metavar="FILE", section=FILES))
@CSV
@JSON
@click.pass_context
def command(
    context: click.Context,
    source: str,
    zone: str | None,
    into: str | None,
    as_csv: bool,
    as_json: bool,
    **values: Any,
) -> int:
    """What lies in SOURCE, before anybody decides.

    Messages and bytes by month, months and weeks without mail, correspondents, domains, folders, kinds of attachments,
    the largest messages, the longest conversations, hours and weekdays. --csv gives the months.
    """
    form = _FORMS.get(Path(into or "").suffix.lower())
    if into is not None and form is None:
        raise CallError(f"--into {into}: a survey is drawn as a .png, .svg or .pdf file.")
    timezone = PageOptions(zone=zone_name(zone)).timezone()
    choice = make_choice(values, zone_name(zone))
    with opened(context, source) as mailbox:
        if into is not None:
            keep_apart(mailbox.location, Path(into).expanduser(), around=True)
        result = survey(glimpses(mailbox, choice.settled(mailbox)), timezone)
        if into is not None and form is not None:
            drawn = _drawn(result, f"Mail in {one_line(mailbox.location)}", form)
            write_whole_file(Path(into).expanduser(), drawn)
        code = SOME_FAILED if say_troubles(mailbox) else OK
    if as_json:
        print_json(result.as_dict())
    elif as_csv:
        machine_output()
        sys.stdout.write(csv_row(("month", "messages", "bytes")))
        for month, tally in result.months.items():
            sys.stdout.write(csv_row((month, tally.count, tally.bytes)))
    else:
        _print(result)
        if into is not None:
            click.echo(f"Drawn: {one_line(into)}")
    return code


def _drawn(result: Survey, title: str, form: str) -> bytes:
    """The survey as a png, svg or pdf."""
    from wexagraph.tables.survey_page import described, draw

    drawn = draw(result, title, form)
    if form != "pdf":
        return drawn
    from wexagraph.pages.composing.properties import Record
    from wexagraph.pages.tagging.joining import as_figure

    return as_figure(drawn, Record(title), described(result, title))


def _print(result: Survey) -> None:
    undated = f", {result.undated:,} without a date" if result.undated else ""
    click.echo(f"{counted(result.messages.count, 'message')}, {size(result.messages.bytes)}{undated}.")
    if not result.messages.count:
        return
    console = make_console()
    _months(result)
    for first, last in result.gaps[:_SHOWN]:
        click.echo(f"No mail from {first} to {last}: {(last - first).days + 1} days.")
    if len(result.gaps) > _SHOWN:
        click.echo(f"... and {len(result.gaps) - _SHOWN} more spans of a week or longer; --json lists them.")
    lists: list[tuple[str, list[tuple[str, str]]]] = [
        ("Who wrote most", [(name, f"{count:,}") for name, count in result.senders.most_common(_SHOWN)]),
        ("From which domains", [(name, f"{count:,}") for name, count in result.domains.most_common(_SHOWN)]),
        ("Kinds of attachments", [(name, f"{t.count:,}, {size(t.bytes)}") for name, t in result.kinds()[:_SHOWN]]),
        ("Largest messages", [(f"{id}  {subject[:60]}", size(count)) for id, subject, count in result.largest[:5]]),
        ("Longest conversations", [(f"{id}  {text[:60]}", f"{n:,}") for id, text, n in result.conversations[:5]]),
    ]
    for title, rows in lists:
        if rows:
            table = make_table(title, ">")
            for name, value in rows:
                table.add_row(one_line(name), value)
            click.echo()
            console.print(table)
    busiest = max(range(24), key=result.hours.__getitem__)
    days = ", ".join(f"{name} {count:,}" for name, count in zip(DAYS, result.days, strict=True))
    click.echo(f"\nMost is written from {busiest}:00 to {busiest + 1}:00. By weekday: {days}.")


def _months(result: Survey) -> None:
    """A bar a month; a year with no mail at all is one line."""
    most = max((tally.count for tally in result.months.values()), default=0)
    for month, tally in list(result.months.items())[-36:]:
        bar = "\N{FULL BLOCK}" * max(1, round(_BAR * tally.count / most)) if tally.count else ""
        said = f"{tally.count:>7,}  {size(tally.bytes):>9}  {bar}" if tally.count else "      -             no mail"
        click.echo(f"{month}  {said}")
    if len(result.months) > 36:
        click.echo(f"The last 36 of {len(result.months)} months; --csv lists them all.")
