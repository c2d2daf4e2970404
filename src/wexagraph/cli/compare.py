"""`wexagraph compare SOURCE [CHOICE] DIR`"""

from __future__ import annotations

import sys
from dataclasses import asdict
from datetime import datetime
from pathlib import Path
from typing import Any

import click

from wexagraph.app.comparing import (
    certificate,
    checked_file,
    holdings_of,
    holdings_of_export,
    is_export,
    of_bytes,
    of_lines,
)
from wexagraph.app.locales import zone_name
from wexagraph.app.rows import FILES, RUN, Flag, Option
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.options import option
from wexagraph.cli.parameters import CSV, JSON, SOURCE, choosing, make_choice, named, opened, say_troubles
from wexagraph.cli.progress import Display
from wexagraph.cli.reports import SHOWN, counted, print_json
from wexagraph.cli.terminal import machine_output, make_console, make_table
from wexagraph.output.replacing import write_whole_file
from wexagraph.pages.options import PageOptions
from wexagraph.records.comparison import CHANGED, COLUMNS, MISSING, MORE, THERE, Comparison, Holding, compare
from wexagraph.reports import Progress
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import Source
from wexagraph.tables.columns import MARK, for_json, heading, row
from wexagraph.text import one_line, shortened, size


@click.command("compare")
@SOURCE
@click.argument("directory", metavar="DIR", callback=named)
@choosing
@option(Option("deep", "Read all bytes, on both sides; else headers alone.", False, Flag(), section=RUN, safe=True))
@option(
    Option(
        "into",
        "The differences as .csv; or a certificate to be signed, .pdf or .txt.",
        metavar="FILE",
        section=FILES,
    )
)
@CSV
@JSON
@click.pass_context
def command(
    context: click.Context,
    source: str,
    directory: str,
    deep: bool,
    into: str | None,
    as_csv: bool,
    as_json: bool,
    **values: Any,
) -> int:
    """Does DIR hold all of SOURCE? DIR is an export folder, a backup, an archive or another mailbox.

    A message counts as there wherever in DIR it lies. What is missing or has changed is named.
    """
    suffix, choice = checked_file(into), make_choice(values, zone_name(None))
    place = Path(directory).expanduser()
    display = Display(("comparison",), "messages")

    def told(count: int) -> None:
        display.update(Progress(done=count))

    def held_by(mailbox: Source, choice: Choice) -> list[Holding]:
        return holdings_of(mailbox, choice, told, (of_bytes if is_export(place) else of_lines) if deep else None)

    with opened(context, source) as mailbox, display:
        wanted, location = held_by(mailbox, choice), mailbox.location
        troubled = say_troubles(mailbox)
        if is_export(place):
            held = holdings_of_export(place)
        else:
            with context.obj.open(directory) as other:
                held = held_by(other, Choice())
                troubled |= say_troubles(other)
    found = compare(location, wanted, directory, held, deep)
    if into is not None:
        _write(found, Path(into).expanduser(), suffix)
    if as_json:
        print_json(_as_dict(found))
    elif as_csv:
        machine_output()
        sys.stdout.write(_table(found))
    else:
        _print(found, into)
    return OK if found.complete and not troubled else SOME_FAILED


def _cut(subject: str) -> str:
    return shortened(one_line(subject), 100)


def _table(found: Comparison) -> str:
    return heading(COLUMNS) + "".join(row(COLUMNS, one) for one in found.differences)


def _write(found: Comparison, path: Path, suffix: str) -> None:
    """Write the file, whole or not at all. Raises TargetError."""
    from wexagraph.app.cases.records import user_name

    if suffix == ".csv":
        write_whole_file(path, MARK + _table(found).encode("utf-8", "surrogateescape"))
        return
    paper = certificate(found, datetime.now().astimezone(), user_name())
    write_whole_file(path, paper.text() if suffix == ".txt" else paper.pdf(PageOptions()))


def _as_dict(found: Comparison) -> dict[str, Any]:
    return {
        "source": found.source,
        "folder": found.folder,
        "deep": found.deep,
        "complete": found.complete,
        **{state: found.count(state) for state in (THERE, MISSING, CHANGED, MORE)},
        "wanted": asdict(found.wanted),
        "held": asdict(found.held),
        "folders": {name: dict(counts) for name, counts in sorted(found.folders.items())},
        "differences": [{one.name: for_json(one.value(each)) for one in COLUMNS} for each in found.differences],
    }


def _print(found: Comparison, into: str | None) -> None:
    table = make_table("Folder", ">Messages", ">There", ">Missing", ">Changed")
    for name, counts in sorted(found.folders.items()):
        cells = (f"{counts[state]:,}" if counts[state] else "-" for state in (THERE, MISSING, CHANGED))
        table.add_row(one_line(name), f"{counts.total():,}", *cells)
    if found.folders:
        make_console().print(table)
    shown = [one for one in found.differences if one.state != MORE]
    for one in shown[:SHOWN]:
        about = f"{one.holding.date[:10] or 'undated'} {one_line(one.holding.sender)}: {_cut(one.holding.subject)}"
        why = f" ({one_line(one.holding.unread)})" if one.holding.unread else ""
        click.secho(f"{one.state.capitalize()}: {one.holding.id}  {about}{why}", fg="red")
    if len(shown) > SHOWN:
        click.secho(f"... and {len(shown) - SHOWN:,} more; --csv lists them all.", fg="red")
    if more := found.count(MORE):
        click.echo(f"{counted(more, 'message')} there that the source does not have; --csv lists them.")
    how = "byte for byte" if found.deep else "by their headers; --deep compares all bytes"
    sums = f"{found.count(THERE):,} there, {found.count(MISSING):,} missing, {found.count(CHANGED):,} changed"
    click.echo(f"{counted(found.wanted.messages, 'message')} of {size(found.wanted.bytes)}: {sums}, {how}.")
    click.secho(
        f"{one_line(found.folder)} holds all of {one_line(found.source)}."
        if found.complete
        else f"{one_line(found.folder)} does not hold all of {one_line(found.source)}.",
        bold=True,
    )
    if into is not None:
        click.echo(f"Written: {one_line(into)}")
