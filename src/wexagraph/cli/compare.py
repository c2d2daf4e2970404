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

    def progress(count: int) -> None:
        display.update(Progress(done=count))

    def held_by(mailbox: Source, choice: Choice) -> list[Holding]:
        return holdings_of(mailbox, choice, progress, (of_bytes if is_export(place) else of_lines) if deep else None)

    with opened(context, source) as mailbox, display:
        wanted, location = held_by(mailbox, choice), mailbox.location
        troubled = say_troubles(mailbox)
        if is_export(place):
            held = holdings_of_export(place)
        else:
            with context.obj.open(directory) as other:
                held = held_by(other, Choice())
                troubled |= say_troubles(other)
    comparison = compare(location, wanted, directory, held, deep)
    if into is not None:
        _write(comparison, Path(into).expanduser(), suffix)
    if as_json:
        print_json(_as_dict(comparison))
    elif as_csv:
        machine_output()
        sys.stdout.write(_table(comparison))
    else:
        _print(comparison, into)
    return OK if comparison.complete and not troubled else SOME_FAILED


def _cut(subject: str) -> str:
    return shortened(one_line(subject), 100)


def _table(comparison: Comparison) -> str:
    return heading(COLUMNS) + "".join(row(COLUMNS, one) for one in comparison.differences)


def _write(comparison: Comparison, path: Path, suffix: str) -> None:
    """Write the file, whole or not at all. Raises TargetError."""
    from wexagraph.app.cases.records import user_name
    from wexagraph.app.options import page_options

    if suffix == ".csv":
        write_whole_file(path, MARK + _table(comparison).encode("utf-8", "surrogateescape"))
        return
    page = page_options({})
    paper = certificate(comparison, datetime.now().astimezone(), user_name(), page.tr)
    write_whole_file(path, paper.text() if suffix == ".txt" else paper.pdf(page))


def _as_dict(comparison: Comparison) -> dict[str, Any]:
    return {
        "source": comparison.source,
        "folder": comparison.folder,
        "deep": comparison.deep,
        "complete": comparison.complete,
        **{state: comparison.count(state) for state in (THERE, MISSING, CHANGED, MORE)},
        "wanted": asdict(comparison.wanted),
        "held": asdict(comparison.held),
        "folders": {name: dict(counts) for name, counts in sorted(comparison.folders.items())},
        "differences": [{one.name: for_json(one.value(each)) for one in COLUMNS} for each in comparison.differences],
    }


def _print(comparison: Comparison, into: str | None) -> None:
    table = make_table("Folder", ">Messages", ">There", ">Missing", ">Changed")
    for name, counts in sorted(comparison.folders.items()):
        cells = (f"{counts[state]:,}" if counts[state] else "-" for state in (THERE, MISSING, CHANGED))
        table.add_row(one_line(name), f"{counts.total():,}", *cells)
    if comparison.folders:
        make_console().print(table)
    shown = [one for one in comparison.differences if one.state != MORE]
    for one in shown[:SHOWN]:
        about = f"{one.holding.date[:10] or 'undated'} {one_line(one.holding.sender)}: {_cut(one.holding.subject)}"
        why = f" ({one_line(one.holding.unread)})" if one.holding.unread else ""
        click.secho(f"{one.state.capitalize()}: {one.holding.id}  {about}{why}", fg="red")
    if len(shown) > SHOWN:
        click.secho(f"... and {len(shown) - SHOWN:,} more; --csv lists them all.", fg="red")
    if more := comparison.count(MORE):
        click.echo(f"{counted(more, 'message')} there that the source does not have; --csv lists them.")
    how = "byte for byte" if comparison.deep else "by their headers; --deep compares all bytes"
    sums = ", ".join(f"{comparison.count(state):,} {state}" for state in (THERE, MISSING, CHANGED))
    click.echo(f"{counted(comparison.wanted.messages, 'message')} of {size(comparison.wanted.bytes)}: {sums}, {how}.")
    click.secho(
        f"{one_line(comparison.folder)} holds all of {one_line(comparison.source)}."
        if comparison.complete
        else f"{one_line(comparison.folder)} does not hold all of {one_line(comparison.source)}.",
        bold=True,
    )
    if into is not None:
        click.echo(f"Written: {one_line(into)}")
