"""`wexagraph folders SOURCE`"""

from __future__ import annotations

import sys
from datetime import UTC, datetime
from typing import Any

import click

from wexagraph.app.locales import zone_name
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.parameters import AS_OF, CSV, JSON, LINKS, SALVAGE, SOURCE, ZONE, opened, say_troubles
from wexagraph.cli.terminal import machine_output, make_console, make_table
from wexagraph.messages.dates import in_zone
from wexagraph.pages.options import PageOptions
from wexagraph.tables.columns import csv_row, for_json, plain
from wexagraph.text import one_line, size, to_json

_COLUMNS = ("folder", "messages", "bytes", "oldest", "newest")


@click.command("folders")
@SOURCE
@ZONE
@AS_OF
@LINKS
@SALVAGE
@CSV
@JSON
@click.pass_context
def command(context: click.Context, source: str, zone: str | None, as_csv: bool, as_json: bool) -> int:
    """The folders of SOURCE: messages, bytes, oldest and newest message."""
    timezone = PageOptions(zone=zone_name(zone)).timezone()
    with opened(context, source) as mailbox:
        rows: list[dict[str, Any]] = []
        for folder in mailbox.folders():
            count, total = 0, 0
            oldest: datetime | None = None
            newest: datetime | None = None
            for envelope in mailbox.readable(folder, mailbox.envelopes(folder)):
                count, total = count + 1, total + envelope.size
                moment = envelope.date()[0]
                if moment is not None:
                    oldest = moment if oldest is None or moment < oldest else oldest
                    newest = moment if newest is None or moment > newest else newest
            rows.append({"folder": folder, "messages": count, "bytes": total, "oldest": oldest, "newest": newest})
        if as_csv or as_json:
            _print_for_programs(rows, as_csv)
        else:
            table = make_table("Folder", ">Messages", ">Size", "Oldest", "Newest")
            for row in rows:
                days = [f"{in_zone(d, timezone or UTC):%Y-%m-%d}" if d else "-" for d in (row["oldest"], row["newest"])]
                table.add_row(one_line(row["folder"]), f"{row['messages']:,}", size(row["bytes"]), *days)
            console = make_console()
            console.print(table)
            messages, total = sum(row["messages"] for row in rows), sum(row["bytes"] for row in rows)
            console.print(
                f"{len(rows)} folder{'s' * (len(rows) != 1)}, {messages:,} message{'s' * (messages != 1)}, "
                f"{size(total)}. Format{'s' * (',' in mailbox.kind)}: {mailbox.kind}.",
                style="dim",
            )
        return SOME_FAILED if say_troubles(mailbox) else OK


def _print_for_programs(rows: list[dict[str, Any]], as_csv: bool) -> None:
    machine_output()
    for row in rows:
        for name in ("oldest", "newest"):
            tell = plain if as_csv else for_json
            row[name] = tell(row[name]) or ""
    if as_csv:
        sys.stdout.write(csv_row(_COLUMNS))
        for row in rows:
            sys.stdout.write(csv_row(one_line(str(row[name])) for name in _COLUMNS))
    else:
        print(to_json(rows))
