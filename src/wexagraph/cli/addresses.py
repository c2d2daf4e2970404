"""`wexagraph addresses SOURCE [CHOICE]`"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import click

from wexagraph.app.locales import zone_name
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.parameters import CSV, JSON, SOURCE, choosing, make_choice, opened, say_troubles
from wexagraph.cli.reports import print_json
from wexagraph.cli.terminal import Sheet, machine_output
from wexagraph.errors import CallError
from wexagraph.output.replacing import write_whole_file
from wexagraph.output.target import keep_apart
from wexagraph.tables.columns import MARK, heading, row
from wexagraph.tables.correspondents import COLUMNS, Correspondent, correspondents, vcards
from wexagraph.tables.workbooks import workbook
from wexagraph.text import one_line

_SHOWN = 30


@click.command("addresses")
@SOURCE
@choosing
@click.option("--into", metavar="FILE", help="All of them into a file: .csv, .xlsx, or .vcf (vCard 4.0).")
@click.option("--domains", is_flag=True, help="A row a domain.")
@click.option(
    "--mine",
    multiple=True,
    metavar="ADDRESS",
    help="An address of your own: left out, and what went to it or came from it is counted. Repeatable.",
)
@CSV
@JSON
@click.pass_context
def command(
    context: click.Context,
    source: str,
    into: str | None,
    domains: bool,
    mine: tuple[str, ...],
    as_csv: bool,
    as_json: bool,
    **values: Any,
) -> int:
    """Who wrote and was written to in the chosen messages of SOURCE: a row an address.

    Headers only are read. Without --into, the most frequent are shown.
    """
    suffix = Path(into or "").suffix.lower()
    if into is not None and suffix not in (".csv", ".xlsx", ".vcf"):
        raise CallError(f"--into {into}: a list of addresses is a .csv, .xlsx or .vcf file.")
    if suffix == ".vcf" and domains:
        raise CallError("a vCard is of a person: --domains goes with .csv and .xlsx.")
    choice = make_choice(values, zone_name(None))
    with opened(context, source) as mailbox:
        people = correspondents(choice.settled(mailbox).select(mailbox), mine, domains)
        if into is not None:
            _write(Path(into).expanduser(), suffix, people, mailbox.location)
        code = SOME_FAILED if say_troubles(mailbox) else OK
    if as_json:
        print_json([{column.name: column.value(one) for column in COLUMNS} for one in people])
    elif as_csv:
        machine_output()
        sys.stdout.write(heading(COLUMNS))
        for one in people:
            sys.stdout.write(row(COLUMNS, one))
    else:
        _print(people, domains, into, bool(mine))
    return code


def _write(path: Path, suffix: str, people: list[Correspondent], source: str) -> None:
    """Write the file, whole or not at all. Raises TargetError, CallError."""
    keep_apart(source, path, around=True)
    if suffix == ".csv":
        text = heading(COLUMNS) + "".join(row(COLUMNS, one) for one in people)
        content = MARK + text.encode("utf-8", "surrogateescape")
    else:
        content = vcards(people) if suffix == ".vcf" else workbook("addresses", COLUMNS, people)
    write_whole_file(path, content)


def _print(people: list[Correspondent], domains: bool, into: str | None, own: bool) -> None:
    more = (">To us", ">From us") if own else ()
    table = Sheet(
        "Domain" if domains else "Address", "|Name", ">Wrote", ">Received", "?>Copied", *more, "?First", "Last"
    )
    for one in people[:_SHOWN]:
        days = (f"{moment:%Y-%m-%d}" if moment else "-" for moment in (one.first, one.last))
        ours = (f"{one.incoming:,}", f"{one.outgoing:,}") if own else ()
        name = _counted(len(one.addresses), "address", "addresses") if domains else one_line(one.name)
        counts = (f"{one.wrote:,}", f"{one.received:,}", f"{one.copied:,}", *ours)
        table.add_row(one_line(one.address), name, *counts, *days)
    if people:
        table.show()
    words = ("domain", "domains") if domains else ("address", "addresses")
    total = _counted(len(people), *words)
    shown = f", the first {_SHOWN} shown" if len(people) > _SHOWN else ""
    click.echo(f"{total}{shown}." + (f" All are in {one_line(into)}." if into else ""))


def _counted(count: int, one: str, more: str) -> str:
    return f"{count:,} {one if count == 1 else more}"
