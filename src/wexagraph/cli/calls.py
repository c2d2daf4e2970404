"""A command's call, made of what stands on the command line, and run at a terminal."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import click

from wexagraph.app.commands import Work, chosen, command_of, hand_on, options_of, run
from wexagraph.app.orders.notices import check_notices
from wexagraph.cli.parameters import explain_none, make_choice, opened, plain_values
from wexagraph.cli.progress import Display, stoppable
from wexagraph.cli.reports import conclude, print_as_csv, refuse_csv
from wexagraph.cli.session import allowing, ask_passphrase, may_ask, notify, prompt
from wexagraph.errors import CallError
from wexagraph.records.calls import Call


def call_of(context: click.Context, command: str, source: str, into: str, values: dict[str, Any]) -> Call:
    """What the options of a command say, as plain data. Raises CallError."""
    own = command_of(Call(command, source, into)).defaults
    options = plain_values(context, values, own)
    if "attached" in own:  # it says which files are taken, of all messages that are chosen
        values = values | {"attached": (), "once": None}
    choice = make_choice(values, None)
    if choice.ids is not None and not choice.ids:
        raise CallError("no ID was given: standard input was empty.")
    plain = choice.to_dict()
    return Call(command, source, into, plain, options, values.get("afterwards") or "", values.get("deliver") or "")


@dataclass(frozen=True)
class Printers:
    """What prints the report of a command that has `done` something, and that of a dry run, which has `planned` it;
    `table` says where the table of what was done is, for which --csv is not meant."""

    done: Callable[[Any], None]
    planned: Callable[[Any], None]
    table: str = ""


def carry_out(
    context: click.Context,
    command: str,
    source: str,
    into: str,
    values: dict[str, Any],
    printers: Printers,
    *,
    what: Callable[[Any], tuple[str, ...]] | None = None,
    progress: Callable[..., None] | None = None,
) -> int:
    """Do what the options of a command say, and tell it. Returns the exit code. Raises CallError, SourceError,
    TargetError."""
    dry, as_csv = values["dry_run"], values.get("as_csv", False)
    if printers.table:
        refuse_csv(as_csv, dry, printers.table)
    call = call_of(context, command, source, into, values)
    report = run_call(context, call, values, dry=dry, what=what, progress=progress)
    if as_csv:
        return print_as_csv(report.planned or [], report.complete)
    print_report = printers.planned if dry else printers.done
    return conclude(report, values["as_json"], lambda: print_report(report), values["quiet"] and not dry)


def run_call(
    context: click.Context,
    call: Call,
    values: dict[str, Any],
    *,
    dry: bool = False,
    what: Callable[[Any], tuple[str, ...]] | None = None,
    progress: Callable[..., None] | None = None,
    options: Any = None,
) -> Any:
    """Run a call with progress on standard error, asking the person at the terminal before anything is changed. Returns
    the command's own kind of report.

    `what` names from its options what is made, for the progress; a command that tells of its own way gives `progress`.
    """
    now = datetime.now(UTC)
    options = options if options is not None else options_of(call, prompt(), now, context.obj.configuration.keys)
    sure = bool(values.get("yes"))
    if call.afterwards and not dry:
        may_ask(sure)
    check_notices(values.get("notify") or (), context.obj.configuration)
    if call.deliver:
        from wexagraph.app.places import check_place

        check_place(call.deliver, call.into, context.obj.configuration)
    display = Display(what(options) if what is not None else (call.command,))

    def allow(what: str, kept: str) -> bool:
        display.close()
        return allowing(sure)(what, kept)

    keys = context.obj.keys(values)
    with opened(context, call.source, locked=True) as mailbox, display, stoppable(display) as stopped:
        work = Work(
            *(mailbox, now, stopped, dry, options),
            progress=progress or display.update,
            say=lambda text: click.echo(f"wexagraph: {text}", err=True),
            allow=allow,
            ask=ask_passphrase(),
            unlocked=keys,
        )
        report = run(call, work)
        if report.is_empty:
            explain_none(report, mailbox, chosen(call, mailbox))
    if not dry:
        if call.deliver:
            to = (call.deliver, call.into, report)
            with Display(("delivery",), "files") as display, stoppable(display) as stopped:
                hand_on(*to, lambda place, root: context.obj.deliver(place, root, stopped, display.update))
        notify(values.get("notify") or (), call.command, report, context.obj.configuration)
    return report
