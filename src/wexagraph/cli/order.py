"""`wexagraph order` and its commands; those that add, watch and keep time have files of their own."""

from __future__ import annotations

import sys
from contextlib import closing
from dataclasses import replace
from datetime import datetime
from typing import TYPE_CHECKING, Any

import click

from wexagraph.cli.exits import INTERRUPTED, OK, SOME_FAILED, UNUSABLE
from wexagraph.cli.order_add import add, change
from wexagraph.cli.order_views import (
    LISTED,
    RUNS,
    OrderRow,
    clock,
    complete_orders,
    orders_of,
    run_line,
    say_idle,
    sums,
)
from wexagraph.cli.order_watch import timetable, watch
from wexagraph.cli.parameters import CSV, DRY_RUN, JSON, QUIET
from wexagraph.cli.reports import counted, print_json, seconds
from wexagraph.cli.session import at_a_terminal
from wexagraph.cli.terminal import Sheet, machine_output
from wexagraph.errors import CallError
from wexagraph.records.order import Order
from wexagraph.records.order_log import DONE, FAILED, STOPPED, UNDONE, Run
from wexagraph.selection.criteria import parse_day
from wexagraph.tables.columns import for_json, heading, row
from wexagraph.text import one_line, size

if TYPE_CHECKING:
    from wexagraph.reports import Report

NAMES = click.argument("names", nargs=-1, metavar="[NAME ...]", shell_complete=complete_orders)
SOME = click.argument("names", nargs=-1, required=True, metavar="NAME ...", shell_complete=complete_orders)


@click.group("order")
def command() -> None:
    """Standing orders: said once, done from then on, never twice and none forgotten."""


@command.command("list")
@CSV
@JSON
@click.pass_context
def list_orders(context: click.Context, as_csv: bool, as_json: bool) -> int:
    """All orders: what, when, how it went last."""
    with closing(orders_of(context)) as orders:
        known, wrong = orders.all()
        rows = [OrderRow(orders, order) for order in known]
    if as_json:
        values = [{column.name: for_json(column.value(each)) for column in LISTED} for each in rows]
        print_json({"orders": values, "unreadable": [str(error) for error in wrong]})
    elif as_csv:
        machine_output()
        sys.stdout.write(heading(LISTED) + "".join(row(LISTED, each) for each in rows))
    else:
        _print_orders(rows)
        _say_wrong(wrong)
    return SOME_FAILED if wrong else OK


def _print_orders(rows: list[OrderRow]) -> None:
    if not rows:
        click.echo("There is no order yet. Add one: wexagraph order add NAME --every 1h -- export SOURCE --into DIR")
        return
    table = Sheet("Order", "|Does", "When", "Last run", "?>New", ">Total", "Next")
    for each in rows:
        last = each.last
        ran = f"{clock(last.started)}{'' if last.state == DONE else ', ' + last.state}" if last else "never"
        does = one_line(" ".join(filter(None, (f"{each.order.call.in_words}.", each.order.call.changes))))
        new = f"{last.written:,}" if last else ""
        table.add_row(each.order.name, does, each.order.when.in_words, ran, new, f"{each.total:,}", each.following)
    table.show()
    for each in rows:
        if each.trouble:
            click.secho(f"{each.order.name}: {one_line(each.trouble)}", fg="red")
    say_idle([each.order for each in rows if each.idle])


@command.command("show")
@click.argument("name", shell_complete=complete_orders)
@CSV
@JSON
@click.pass_context
def show(context: click.Context, name: str, as_csv: bool, as_json: bool) -> int:
    """One order, and what is still to come of it."""
    with closing(orders_of(context)) as orders:
        order = orders.get(name)
        each = OrderRow(orders, order)
        path = str(orders.path(name))
    call = order.call
    if as_csv:
        machine_output()
        sys.stdout.write(heading(LISTED) + row(LISTED, each))
        return OK
    if as_json:
        values = {column.name: for_json(column.value(each)) for column in LISTED}
        said = {
            "command": call.command,
            "source": call.source,
            "into": call.into,
            "afterwards": call.afterwards or None,
            "deliver": call.deliver or None,
        }
        more = {"choice": call.choice, "options": call.options, "when": order.when.to_dict(), "file": path}
        print_json(values | said | more | {"failures": [vars_of(failure) for failure in each.failing]})
        return OK
    click.echo(f"Order {name}, {order.when.in_words}{', paused' if order.paused else ''}")
    click.echo(f"  {call.command} of {one_line(call.source)}")
    for title, values in (("Chosen", call.choice), ("Options", call.options)):
        for option, value in values.items():
            text = ", ".join(map(str, value)) if isinstance(value, list) else str(value)
            click.echo(f"  {title:8} --{option}{'' if value is True else ' ' + one_line(text)}")
    click.echo(f"  Into     {one_line(call.into)}")
    if call.deliver:
        click.echo(f"  Deliver  {one_line(call.deliver)}")
    if call.changes:
        click.echo(f"  {one_line(call.changes)}")
    if each.last is not None:
        click.echo(f"Last run: {one_line(run_line(each.last))}")
    click.echo(f"Delivered: {counted(each.total, 'message')} in all")
    if each.next is not None:
        click.echo(f"Next run: {clock(each.next)}")
    say_idle([order] if each.idle else [])
    for failure in each.failing[:20]:
        click.secho(f"Still to come: {failure.id} in {one_line(failure.folder)}: {one_line(failure.reason)}", fg="red")
    click.echo(f"File: {one_line(path)}")
    return OK


def vars_of(failure: Any) -> dict[str, str]:
    """A failure as plain values."""
    return {"id": failure.id, "folder": failure.folder, "subject": failure.subject, "reason": failure.reason}


@command.command("run")
@NAMES
@click.option("--due", is_flag=True, help="All orders for which it is time.")
@click.option("--again", is_flag=True, help="Make all anew, into fresh names where files are in the way.")
@DRY_RUN
@QUIET
@CSV
@JSON
@click.pass_context
def run(
    context: click.Context,
    names: tuple[str, ...],
    due: bool,
    again: bool,
    dry_run: bool,
    quiet: bool,
    as_csv: bool,
    as_json: bool,
) -> int:
    """Run orders: those named, or all that are due.

    What an order has delivered is delivered: a file that was renamed or taken away is not made again. What failed is
    tried at each run.
    """
    if bool(names) == due:
        raise CallError("name the orders to run, or say --due for all for which it is time.")
    if again and (due or len(names) != 1):
        raise CallError("--again makes all of one order anew: name that order alone.")
    from wexagraph.app.orders.notices import give_notice
    from wexagraph.cli.progress import Display, stoppable

    configuration = context.find_root().obj.configuration
    done: list[tuple[Order, Run, Report]] = []
    wrong: list[CallError] = []
    with closing(orders_of(context)) as orders, stoppable(Display(("order",))) as stopped:
        if due:
            known, wrong = orders.all()
            chosen = [order for order in known if orders.is_due(order)]
        else:
            chosen = [orders.get(name) for name in dict.fromkeys(names)]
        for order, one, report in orders.run(chosen, stopped, dry_run, again):
            done.append((order, one, report))
            if not (as_json or as_csv):
                _print_run(one, report, quiet, dry_run)
            if not dry_run:
                for trouble in give_notice((*configuration.notices, *order.notify), one, report, configuration):
                    click.echo(f"wexagraph: {one_line(trouble)}", err=True)
        interrupted = stopped()
    if as_json and not (quiet and not any(one.written or one.state != DONE for _, one, _ in done)):
        print_json({"runs": [one.as_dict() | {"report": report.as_dict()} for _, one, report in done]})
    elif as_csv:
        machine_output()
        sys.stdout.write(heading(RUNS) + "".join(row(RUNS, one) for _, one, _ in done))
    elif not as_json:
        _say_wrong(wrong)
        if not done and not quiet:
            click.echo("No order is due." if due else "Nothing was run.")
    states = {one.state for _, one, _ in done}
    if interrupted:
        return INTERRUPTED
    return UNUSABLE if UNDONE in states else SOME_FAILED if states & {FAILED, STOPPED} or wrong else OK


def _print_run(one: Run, report: Report, quiet: bool, dry: bool) -> None:
    if quiet and one.state == DONE and not one.written:
        return
    if dry and one.state != UNDONE:
        from wexagraph.cli.reports import print_planned

        print_planned(report.planned or [], ">Message")
        click.echo(
            f"{one.name}: {one.written:,} would be new, {one.already_there:,} delivered before. Nothing was written."
        )
        return
    click.secho(f"{one.name}: {one_line(sums(one))}", fg="red" if one.state in (UNDONE, FAILED) else None)
    for reason in one.reasons[:20] if one.state != UNDONE else ():
        click.secho(f"  {one_line(reason)}", fg="red")


@command.command("log")
@click.argument("name", required=False, shell_complete=complete_orders)
@click.option("--since", metavar="DATE", help="Runs of that day or later: 2026-03-14, yesterday, 30d.")
@CSV
@JSON
@click.pass_context
def log(context: click.Context, name: str | None, since: str | None, as_csv: bool, as_json: bool) -> int:
    """Each run of NAME, or of all orders.

    What was chosen, new, already there, what failed and why, and how it ended.
    """
    with closing(orders_of(context)) as orders:
        if name is not None:
            orders.get(name)
        first = None
        if since is not None:
            day = parse_day(since, orders.clock().date())
            first = datetime(day.year, day.month, day.day).astimezone()
        runs = orders.log.runs(name, first, 1_000_000 if as_csv or as_json else 200)
    if as_json:
        print_json({"runs": [one.as_dict() for one in runs]})
    elif as_csv:
        machine_output()
        sys.stdout.write(heading(RUNS) + "".join(row(RUNS, one) for one in runs))
    elif not runs:
        click.echo("No run yet.")
    else:
        table = Sheet("Order", "Began", "?Took", "?>Chosen", ">New", "?>There", ">Failed", "?>Bytes", "Ended", "|Why")
        for one in runs:
            took = seconds((one.ended - one.started).total_seconds()) if one.ended else ""
            why = one_line("; ".join(one.reasons[:2]))
            counts = (f"{count:,}" for count in (one.chosen, one.written, one.already_there, one.failed))
            table.add_row(one.name, clock(one.started), took, *counts, size(one.bytes), one.state, why)
        table.show()
    return OK


@command.command("pause")
@SOME
@click.pass_context
def pause(context: click.Context, names: tuple[str, ...]) -> int:
    """Let orders rest.

    Until they are resumed, they run by hand only.
    """
    return _set_paused(context, names, True)


@command.command("resume")
@SOME
@click.pass_context
def resume(context: click.Context, names: tuple[str, ...]) -> int:
    """Let orders that were paused run again."""
    return _set_paused(context, names, False)


def _set_paused(context: click.Context, names: tuple[str, ...], paused: bool) -> int:
    with closing(orders_of(context)) as orders:
        for name in [orders.get(name).name for name in names]:
            _, order = orders.change(name, lambda each: replace(each, paused=paused))
            click.echo(f"{order.name}: {'paused' if paused else f'runs {order.when.in_words}'}.")
    return OK


@command.command("rename")
@click.argument("old", shell_complete=complete_orders)
@click.argument("new")
@click.pass_context
def rename(context: click.Context, old: str, new: str) -> int:
    """Give the order OLD the name NEW.

    What it has delivered stays delivered.
    """
    with closing(orders_of(context)) as orders:
        orders.rename(old, new)
    click.echo(f"{old} is {new} now.")
    return OK


@command.command("remove")
@SOME
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.pass_context
def remove(context: click.Context, names: tuple[str, ...], yes: bool) -> int:
    """Take orders away; their files stay.

    Their logs go.
    """
    with closing(orders_of(context)) as orders:
        for name in names:
            if not yes and at_a_terminal() and not click.confirm(f"Take the order {name} away?", err=True):
                continue
            orders.remove(name)
            click.echo(f"{name} is removed; its files stay.")
    return OK


def _say_wrong(wrong: list[CallError]) -> None:
    for error in wrong:
        click.secho(f"Not read: {one_line(str(error))}", fg="red", err=True)


command.add_command(add)
command.add_command(change)
command.add_command(watch)
command.add_command(timetable)
