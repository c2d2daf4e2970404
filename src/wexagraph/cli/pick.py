"""`wexagraph pick SOURCE [CHOICE]`"""

from __future__ import annotations

import shlex
import sys
from datetime import date
from typing import Any

import click

from wexagraph.app.locales import zone_name
from wexagraph.app.option_table import KEYS
from wexagraph.app.sets import checked_set_name, keep_set
from wexagraph.cli.exits import OK
from wexagraph.cli.options import options
from wexagraph.cli.parameters import SOURCE, ZONE, choosing, make_choice, opened
from wexagraph.cli.reports import counted
from wexagraph.errors import CallError
from wexagraph.text import one_line

_MOST_IDS = 12
_PICKED = "picked"


@click.command("pick")
@SOURCE
@choosing
@ZONE
@options(*KEYS)
@click.option("--save", metavar="NAME", help="Keep what is marked as a set of this name, for --set on other commands.")
@click.pass_context
def command(context: click.Context, source: str, zone: str | None, save: str | None, **values: Any) -> int:
    """Choose messages of SOURCE with the eyes, from a list in the terminal.

    Type to narrow, Tab marks, Enter ends. The list is drawn on the terminal, the IDs of what is marked go to standard
    output: wexagraph pick mailbox | wexagraph export mailbox --into files --id -
    """
    if save is not None:
        checked_set_name(save)
    if not (sys.stdin.isatty() and (sys.stdout.isatty() or sys.stderr.isatty())):
        raise CallError(
            "`pick` draws a list on a terminal, and there is none here. "
            f"`wexagraph list {one_line(source)}` prints the messages; --from, --since and the like choose them."
        )
    from wexagraph.cli.picking.screen import EXPORT, KEEP, PRINT, Screen

    choice = make_choice(values, zone_name(zone))
    ends_with = KEEP if save is not None else "" if sys.stdout.isatty() else PRINT
    with opened(context, source) as mailbox:
        picked = Screen(mailbox, choice, source, ends_with).run()
    if picked is None:
        click.echo("Nothing was picked.", err=True)
        return OK
    ids = [row.id for row in picked.rows]
    if picked.what == PRINT:
        for id in ids:
            click.echo(id)
    elif picked.what == KEEP:
        name = save or picked.text
        keep_set(name, source, ids, date.today())
        click.echo(f"Kept as the set {name}: {counted(len(ids), 'message')}.", err=True)
        click.echo(f"Use it: wexagraph export {shlex.quote(source)} --set {name} --into DIR", err=True)
    elif picked.what == EXPORT:
        return _export(context, source, ids, picked.text)
    return OK


def _export(context: click.Context, source: str, ids: list[str], options: str) -> int:
    """Run the command that does the same, and show it."""
    keep_set(_PICKED, source, ids, date.today())  # should the options be wrong, the marks are not lost
    try:
        words = shlex.split(options)
    except ValueError as error:
        raise CallError(f"the options can't be read: {error}.") from error
    chosen = ["--set", _PICKED] if len(ids) > _MOST_IDS else ["--id", ",".join(ids)]
    arguments = ["export", source, *chosen, *words]
    click.secho(f"$ wexagraph {shlex.join(arguments)}", fg="magenta", err=True)
    root = context.find_root().command
    result: Any = root.main(arguments, prog_name="wexagraph", standalone_mode=False)
    return result if isinstance(result, int) else OK
