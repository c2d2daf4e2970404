"""How orders and their runs are shown, in words and as columns."""

from __future__ import annotations

from datetime import datetime

import click
from click.shell_completion import CompletionItem

from wexagraph.app.orders.running import Orders, orders_folder
from wexagraph.cli.parameters import offered
from wexagraph.cli.reports import seconds
from wexagraph.records.order import Order, When
from wexagraph.records.order_log import DONE, STOPPED, UNDONE, Run
from wexagraph.tables.columns import Column
from wexagraph.text import one_line, size


def orders_of(context: click.Context) -> Orders:
    """The orders of the user, for a command."""
    session = context.find_root().obj
    return Orders(
        session.open, lambda: datetime.now().astimezone(), deliver=session.deliver, keys=session.configuration.keys
    )


def complete_orders(context: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """The names of orders that go on."""
    return offered(sorted(path.stem for path in orders_folder().glob("*.toml")), incomplete)


class OrderRow:
    """An order as a list shows it."""

    def __init__(self, orders: Orders, order: Order) -> None:
        self.order, self.last = order, orders.last_run(order.name)
        self.total, self.failing = orders.log.total(order.name), orders.log.failing(order.name)
        self.runner = "" if order.paused else orders.runner(order.when)
        self.next = orders.next_run(order) if self.runner else None

    @property
    def idle(self) -> bool:
        """Whether it waits for a time or for mail, and nothing runs it then."""
        return not self.order.paused and self.order.when != When() and not self.runner

    @property
    def following(self) -> str:
        """When it runs next, in words."""
        if self.order.paused:
            return "paused"
        if self.idle:
            return "nothing runs it"
        return clock(self.next) if self.next else self.order.when.in_words

    @property
    def trouble(self) -> str:
        """What went wrong last and was not made good since."""
        if self.failing:
            more = f" and {len(self.failing) - 1} more" if len(self.failing) > 1 else ""
            return f"{self.failing[0].id}: {self.failing[0].reason}{more}"
        return self.last.reasons[0] if self.last and self.last.reasons and self.last.state != DONE else ""


LISTED: list[Column[OrderRow]] = [
    Column("name", lambda each: each.order.name),
    Column("does", lambda each: one_line(each.order.call.in_words)),
    Column("when", lambda each: each.order.when.in_words),
    Column("paused", lambda each: each.order.paused),
    Column("changes", lambda each: one_line(each.order.call.changes)),
    Column("last_run", lambda each: each.last.started if each.last else None, "moment"),
    Column("state", lambda each: each.last.state if each.last else None),
    Column("written", lambda each: each.last.written if each.last else None),
    Column("total", lambda each: each.total),
    Column("failing", lambda each: len(each.failing)),
    Column("next_run", lambda each: each.next, "moment"),
    Column("run_by", lambda each: each.runner or None),
    Column("trouble", lambda each: one_line(each.trouble)),
]
"""The columns of `order list`."""


def say_idle(orders: list[Order]) -> None:
    """Say how orders that nothing runs come to be run."""
    if not orders:
        return
    names = ", ".join(order.name for order in orders[:5]) + (" and others" if len(orders) > 5 else "")
    watch = "`wexagraph order watch` runs orders while it is left running"
    click.secho(
        f"Run by hand only, as things are: {names}. No timetable of yours is installed, and no watch is up.", fg="red"
    )
    if any(not order.when.on_arrival for order in orders):
        click.echo(f"`wexagraph order timetable --install` has the system do it, or {watch}.")
    else:
        click.echo(f"{watch}: mail that arrives is seen by it alone.")


def sums(one: Run) -> str:
    """What a run came to, in words."""
    if one.state == UNDONE:
        return f"not done: {one.reasons[0] if one.reasons else ''}"
    took = seconds((one.ended - one.started).total_seconds()) if one.ended else ""
    stopped = " Stopped; the next run goes on." if one.state == STOPPED else ""
    sums = f"{one.written:,} new, {one.already_there:,} already there, {one.failed:,} failed"
    return f"{sums}; {size(one.bytes)} in {took}.{stopped}"


def run_line(one: Run) -> str:
    """A run on a line."""
    return f"{clock(one.started)}, {one.state}: {sums(one)}"


RUNS: list[Column[Run]] = [
    Column("order", lambda one: one.name),
    Column("started", lambda one: one.started, "moment"),
    Column("ended", lambda one: one.ended, "moment"),
    Column("state", lambda one: one.state),
    Column("chosen", lambda one: one.chosen),
    Column("written", lambda one: one.written),
    Column("already_there", lambda one: one.already_there),
    Column("failed", lambda one: one.failed),
    Column("bytes", lambda one: one.bytes),
    Column("reasons", lambda one: one_line("; ".join(one.reasons))),
]
"""The columns of `order log`."""


def clock(moment: datetime) -> str:
    """A moment as people of this place write it, in digits."""
    return f"{moment.astimezone():%Y-%m-%d %H:%M}"
