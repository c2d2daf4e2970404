"""`wexagraph find TEXT`"""

from __future__ import annotations

import sys
from contextlib import closing
from dataclasses import asdict, fields, replace
from datetime import datetime
from pathlib import Path
from typing import Any

import click

from wexagraph.app.locales import zone_name
from wexagraph.app.opening import open_source
from wexagraph.backups.bag import is_backup
from wexagraph.cli.exits import OK
from wexagraph.cli.parameters import CSV, JSON, RECORDS, choosing, make_choice, named, records_of
from wexagraph.cli.reports import counted, print_json
from wexagraph.cli.terminal import machine_output
from wexagraph.errors import CallError
from wexagraph.naming.paths import MANIFEST
from wexagraph.pages.options import PageOptions
from wexagraph.records.finding import Finder, Found
from wexagraph.selection.choice import Choice
from wexagraph.selection.criteria import Criterion
from wexagraph.tables.columns import csv_row
from wexagraph.text import one_line

_SHOWN = 20


@click.command("find")
@click.argument("looked_for", metavar="TEXT", callback=named)
@choosing
@RECORDS
@click.option("--case", "reference", metavar="REF", help="In this case alone.")
@click.option("--in", "place", metavar="DIR", help="In an export folder or a backup, in place of the records.")
@CSV
@JSON
@click.pass_context
def command(
    context: click.Context,
    looked_for: str,
    records: str | None,
    reference: str | None,
    place: str | None,
    as_csv: bool,
    as_json: bool,
    **values: Any,
) -> int:
    """Find messages by their words: in all cases, the closed ones too.

    Words of the message, of what is attached to it (text, PDF, DOCX) and of the case's title count; each as the
    beginning of a word, "in quotes" side by side. The best come first, with the place where the words stand and the
    file to open.
    """
    choice = make_choice(values, zone_name(None))
    if place is not None:
        if records is not None or reference is not None:
            raise CallError("--in names another place than the records: leave out --records and --case.")
        home = Path(place).expanduser().absolute()
        if is_backup(home):
            return _in_a_backup(context, place, looked_for, values, as_csv, as_json)
        if not (home / MANIFEST).exists():
            raise CallError(f"--in {place}: it is neither an export folder nor a backup.")
        folders, names, within = [(home, "")], {"": ""}, None
    else:
        office = records_of(context, records)
        plan = office.plan()
        cases = plan.cases.values()
        home = office.folder
        folders = [(office.place(case), f"{case.reference} {case.title}") for case in cases]
        names = {case.folder: case.reference for case in cases}
        within = plan.get(reference).folder if reference is not None else None
        if not names:
            raise CallError(f"{office.path} has no case yet. `wexagraph case open` opens one.")
    with closing(Finder(home)) as finder:
        hits = finder.find(looked_for, [(path, title) for path, title in folders if path.exists()], within)
    hits = [hit for hit in hits if _is_chosen(home / hit.folder / hit.file, choice)]
    if choice.newest is not None:
        youngest = sorted(hits, key=lambda hit: hit.date, reverse=True)[: choice.newest]
        hits = [hit for hit in hits if hit in youngest]
    if as_json or as_csv:
        rows = [{**asdict(hit), "case": names.get(hit.folder, ""), "place": "".join(hit.place)} for hit in hits]
        if as_json:
            print_json(rows)
        else:
            machine_output()
            columns = [*(each.name for each in fields(Found)), "case"]
            cells = (csv_row(one_line(str(each[name])) for name in columns) for each in rows)
            sys.stdout.write(csv_row(columns) + "".join(cells))
        return OK
    for hit in hits[:_SHOWN]:
        _print(hit, names.get(hit.folder, ""), home)
    more = f", the best {_SHOWN} shown" if len(hits) > _SHOWN else ""
    click.echo(f"{counted(len(hits), 'message')} found{more}.")
    return OK


def _is_chosen(file: Path, choice: Choice) -> bool:
    """Whether the message of a file meets further criteria, by its original beside it."""
    if not choice.narrows:
        return True
    original = file.with_suffix(".eml")
    if not original.exists():
        return False
    with open_source(str(original)) as source:
        return any(True for _ in choice.select(source))


def _print(hit: Found, case: str, home: Path) -> None:
    date = _local(hit.date) if "T" in hit.date else f"{hit.date or 'undated':<16}"
    case = f"  {click.style(one_line(case), fg='magenta')}" if case else ""
    sender = one_line(hit.sender)
    click.echo(f"{date}{case}  {click.style(one_line(hit.subject) or '(no subject)', bold=True)}  {sender}")
    pieces = (
        click.style(one_line(text), bold=True) if n % 2 else click.style(one_line(text), dim=True)
        for n, text in enumerate(hit.place)
    )
    click.echo(f"    {''.join(pieces)}")
    click.echo(f"    {one_line(str(home / hit.folder / hit.file))}")


def _local(date: str) -> str:
    zone = PageOptions(zone=zone_name(None)).timezone()
    return f"{datetime.fromisoformat(date).astimezone(zone):%Y-%m-%d %H:%M}"


def _in_a_backup(
    context: click.Context, place: str, text: str, values: dict[str, Any], as_csv: bool, as_json: bool
) -> int:
    """In a backup, its own index finds them; they are listed as `list` does."""
    from wexagraph.cli.listing import print_csv, print_lines, print_rows
    from wexagraph.tables.message_columns import USUAL, columns_named

    with context.obj.open(place) as source:
        choice = make_choice(values, zone_name(None))
        choice = replace(choice, criteria=(*choice.criteria, Criterion("text", text))).settled(source)
        if as_json:
            print_rows(source, choice, None)
        elif as_csv:
            print_csv(source, choice, columns_named(USUAL))
        else:
            print_lines(source, choice, PageOptions(zone=zone_name(None)).timezone(), None)
    return OK
