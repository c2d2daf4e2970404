"""`wexagraph doubles SOURCE... [CHOICE]`"""

from __future__ import annotations

import sys
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import datetime, tzinfo
from typing import Any

import click

from wexagraph.app.locales import zone_name
from wexagraph.app.rows import CHOICE, OneOf, Option
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.options import option
from wexagraph.cli.parameters import CSV, JSON, ZONE, choosing, make_choice, opened, say_troubles
from wexagraph.cli.reports import counted, print_json
from wexagraph.cli.terminal import machine_output
from wexagraph.messages.dates import in_zone
from wexagraph.pages.options import PageOptions
from wexagraph.selection.doubles import SAMENESS, TEXT, Double, doubles
from wexagraph.tables.columns import Column, for_json, heading, row
from wexagraph.text import one_line, shortened, size

_SHOWN = 20


@dataclass(frozen=True)
class _Row:
    group: int
    double: Double
    zone: tzinfo | None

    @property
    def moment(self) -> datetime | None:
        moment = self.double.envelope.date()[0]
        return in_zone(moment, self.zone) if moment is not None and self.zone is not None else moment


COLUMNS: list[Column[_Row]] = [
    Column("group", lambda one: one.group, "number"),
    Column("same", lambda one: one.double.same or "oldest"),
    Column("id", lambda one: one.double.envelope.id),
    Column("source", lambda one: one_line(one.double.source.location)),
    Column("folder", lambda one: one_line(one.double.envelope.folder)),
    Column("date", lambda one: one.moment, "moment"),
    Column("from", lambda one: one_line(str(one.double.envelope.header.sender))),
    Column("subject", lambda one: one_line(one.double.envelope.header.subject)),
    Column("size", lambda one: one.double.envelope.size, "number"),
]


@click.command("doubles")
@click.argument("sources", metavar="SOURCE...", nargs=-1, required=True)
@choosing
@option(
    Option(
        "same",
        "bytes: byte for byte. text: the same to a reader, with attachments, and of one ID, or one sender and minute.",
        TEXT,
        OneOf(SAMENESS),
        "HOW",
        CHOICE,
        shown=True,
        safe=True,
    )
)
@ZONE
@CSV
@JSON
@click.pass_context
def command(
    context: click.Context,
    sources: tuple[str, ...],
    same: str,
    zone: str | None,
    as_csv: bool,
    as_json: bool,
    **values: Any,
) -> int:
    """Messages that are there more than once, between the folders of SOURCE, and between several sources.

    The oldest of each stands first. `--once` on list, export, file and register takes that one alone.
    """
    name = zone_name(zone)
    choice, timezone = make_choice(values, name), PageOptions(zone=name).timezone()
    with ExitStack() as held:
        mailboxes = [held.enter_context(opened(context, source)) for source in sources]
        chosen = [(mailbox, choice.settled(mailbox).select(mailbox)) for mailbox in mailboxes]
        groups = doubles(chosen, same)
        code = SOME_FAILED if sum(say_troubles(mailbox) for mailbox in mailboxes) else OK
    rows = [_Row(number, one, timezone) for number, group in enumerate(groups, 1) for one in group]
    if as_csv:
        machine_output()
        sys.stdout.write(heading(COLUMNS) + "".join(row(COLUMNS, one) for one in rows))
    elif as_json:
        print_json([{column.name: for_json(column.value(one)) for column in COLUMNS} for one in rows])
    else:
        _print(groups, rows, len(sources) > 1)
    return code


def _print(groups: list[list[Double]], rows: list[_Row], several: bool) -> None:
    for one in rows:
        if one.group > _SHOWN:
            break
        envelope = one.double.envelope
        if not one.double.same:
            subject = shortened(one_line(envelope.header.subject), 100) or "(no subject)"
            who = one_line(envelope.header.sender.name or envelope.header.sender.address) or "(no sender)"
            day = f"{one.moment:%Y-%m-%d %H:%M}" if one.moment else "undated"
            click.secho(f"{day}  {who}: {subject}", bold=True)
        what = f"same {one.double.same}" if one.double.same else "oldest"
        where = f"{one_line(one.double.source.location)}: " if several else ""
        click.echo(f"  {envelope.id}  {what:10}  {size(envelope.size):>10}  {where}{one_line(envelope.folder)}")
    if len(groups) > _SHOWN:
        click.echo(f"... and {len(groups) - _SHOWN:,} more; --csv lists them all.")
    more = [one.double for one in rows if one.double.same]
    taken = sum(one.envelope.size for one in more)
    same = sum(one.same == "bytes" for one in more)
    if more:
        click.echo(
            f"{counted(len(groups), 'message')} more than once, with {counted(len(more), 'double')}: {same:,} the same "
            f"bytes, {len(more) - same:,} the same to a reader; {size(taken)} of them."
        )
    else:
        click.echo("No message is there more than once.")
