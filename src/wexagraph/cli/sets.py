"""`wexagraph sets`"""

from __future__ import annotations

import click

from wexagraph.app.sets import KeptSet, all_sets, remove_set
from wexagraph.cli.exits import OK
from wexagraph.cli.parameters import CSV, JSON
from wexagraph.cli.reports import print_json
from wexagraph.cli.terminal import machine_output, make_console, make_table
from wexagraph.tables.columns import Column, heading, row
from wexagraph.text import one_line

_COLUMNS: list[Column[KeptSet]] = [
    Column("name", lambda one: one.name),
    Column("messages", lambda one: len(one.ids), "number"),
    Column("source", lambda one: one.source),
    Column("kept", lambda one: one.kept.isoformat()),
]


@click.command("sets")
@click.option("--remove", metavar="NAME", multiple=True, help="Forget this set. Repeatable.")
@CSV
@JSON
def command(remove: tuple[str, ...], as_csv: bool, as_json: bool) -> int:
    """The sets that were kept with `pick`: --set NAME chooses their messages on every command."""
    for name in remove:
        remove_set(name)
        click.echo(f"The set {one_line(name)} is forgotten; its messages are where they were.", err=True)
    kept = list(all_sets().values())
    if as_json:
        print_json([{**{column.name: column.value(one) for column in _COLUMNS}, "ids": one.ids} for one in kept])
    elif as_csv:
        machine_output()
        click.echo(heading(_COLUMNS), nl=False)
        for one in kept:
            click.echo(row(_COLUMNS, one), nl=False)
    elif kept:
        table = make_table("Set", ">Messages", "Source", "Kept")
        for one in kept:
            table.add_row(one.name, f"{len(one.ids):,}", one_line(one.source), one.kept.isoformat())
        make_console().print(table)
    elif not remove:
        click.echo("No set is kept. `wexagraph pick SOURCE --save NAME` keeps one.")
    return OK
