"""`wexagraph order add NAME [WHEN] -- COMMAND SOURCE [OPTIONS]`, and `order change` with the same words"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import closing
from dataclasses import replace
from typing import Any

import click
from click.core import ParameterSource

from wexagraph.app.cases.records import records_folder
from wexagraph.app.commands import check, command_of, settled
from wexagraph.app.orders.notices import check_notices
from wexagraph.app.orders.running import Orders
from wexagraph.cli.exits import OK
from wexagraph.cli.order_views import OrderRow, complete_orders, orders_of, say_idle
from wexagraph.errors import CallError
from wexagraph.records.calls import Call
from wexagraph.records.order import Order, When, checked_name
from wexagraph.selection.criteria import TESTS
from wexagraph.text import one_line

_CHOICE = frozenset([*TESTS, "except", "newest", "id", "conversation", "sort", "once"])
_OWN = frozenset({"into", "afterwards", "deliver", "yes", "notify"})
_OF_A_CALL = frozenset({"dry-run", "json", "csv", "quiet", "help", "as-of", "follow-links", "salvage", "set", "print"})


_WORDS = click.argument("words", nargs=-1, type=click.UNPROCESSED, metavar="-- COMMAND SOURCE [OPTIONS]")


def _order_options(command: Callable[..., int]) -> Callable[..., int]:
    """The options of a command that says when an order runs, and who is told."""
    for option in reversed(_ORDER_OPTIONS):
        command = option(command)
    return command


_ORDER_OPTIONS = (
    click.option("--every", metavar="SPAN", help="So often: 15m, 1h, 1d, 2w."),
    click.option("--at", metavar="TIME", help="At a time of the day: 02:30."),
    click.option("--on", metavar="DAYS", help="With --at, on these days only: mon,thu, or 1 for the first of a month."),
    click.option("--on-arrival", is_flag=True, help="As mail arrives, while `wexagraph order watch` runs."),
    click.option(
        "--notify", multiple=True, metavar="WHO", help="Tell: desktop, mail:ADDRESS or command:PROGRAM. Repeatable."
    ),
    click.option("--yes", is_flag=True, help="Allow --afterwards, which changes the mailbox, once and for all runs."),
)


@click.command("add")
@click.argument("name")
@_order_options
@_WORDS
@click.pass_context
def add(
    context: click.Context, name: str, notify: tuple[str, ...], yes: bool, words: tuple[str, ...], **times: Any
) -> int:
    """Keep a command as the order NAME.

    COMMAND is export, attachments, register, file or backup, with all that stands behind it. Without a time it runs by
    hand only: wexagraph order run NAME.
    """
    if not words:
        raise click.MissingParameter(ctx=context, param=context.command.params[-1])
    call, also_notify = _agreed(context, words, yes)
    with closing(orders_of(context)) as orders:
        order = Order(checked_name(name), call, _when(times), notify=(*notify, *also_notify), created=orders.clock())
        check_notices(order.notify, context.find_root().obj.configuration)
        orders.add(order)
        _say(orders, order, f"Try it: wexagraph order run {name} --dry-run")
    return OK


@click.command("change")
@click.argument("name", shell_complete=complete_orders)
@_order_options
@_WORDS
@click.pass_context
def change(
    context: click.Context, name: str, notify: tuple[str, ...], yes: bool, words: tuple[str, ...], **times: Any
) -> int:
    """Change the order NAME: its time, whom it tells, or, behind --, the whole call.

    What is not said stays. What it has delivered stays delivered, whatever is changed.
    """
    if not (words or notify or any(times.values())):
        raise CallError("nothing was said that changes it: a time, --notify, or a whole call behind `--`.")

    def alter(order: Order) -> Order:
        also_notify: tuple[str, ...] = ()
        if words:
            call, also_notify = _agreed(context, words, yes, order.call)
            order = replace(order, call=call)
        if any(times.values()):
            order = replace(order, when=_when(times))
        order = replace(order, notify=(*notify, *also_notify) or order.notify)
        check_notices(order.notify, context.find_root().obj.configuration)
        return order

    with closing(orders_of(context)) as orders:
        before, order = orders.change(name, alter)
        again = f"Delivered before: {orders.log.total(name):,}. `wexagraph order run {name} --again` makes all anew."
        _say(orders, order, again if order.call != before.call else "")
    return OK


def _when(times: dict[str, Any]) -> When:
    return When.from_dict({name.replace("_", "-"): value or () for name, value in times.items()})


def _agreed(
    context: click.Context, words: tuple[str, ...], yes: bool, before: Call | None = None
) -> tuple[Call, tuple[str, ...]]:
    """A call that may be kept, and who is to be told; `before` is what was allowed already."""
    call, sure, notify = _call_of(context, list(words))
    check(call, context.obj.configuration.keys)
    call = settled(replace(call, source=_in_files(context, call.source)))
    if call.deliver:
        from wexagraph.app.places import check_place

        check_place(call.deliver, call.into, context.find_root().obj.configuration)
    known = before is not None and (before.source, before.afterwards) == (call.source, call.afterwards)
    if call.afterwards and not (known or yes or sure):
        raise CallError(f"{call.changes} Add --yes to allow it for all runs of the order.")
    return call, notify


def _say(orders: Orders, order: Order, more: str) -> None:
    """What an order is now."""
    click.echo(f"Order {order.name}, {order.when.in_words}: {one_line(order.call.in_words)}.")
    if order.call.changes:
        click.echo(one_line(order.call.changes))
    if more:
        click.echo(more)
    click.echo(f"It is kept in {one_line(str(orders.path(order.name)))}")
    say_idle([order] if OrderRow(orders, order).idle else [])


def _call_of(context: click.Context, words: list[str]) -> tuple[Call, bool, tuple[str, ...]]:
    """What stands behind `--`, read by that command's own parser; whether --yes was among it, and who is to be told."""
    root = context.find_root()
    group = root.command
    assert isinstance(group, click.Group)
    command_of(Call(words[0], "", ""))
    wanted = group.get_command(root, words[0])
    assert wanted is not None
    called = wanted.make_context(words[0], list(words[1:]), parent=root)
    raw, _, _ = wanted.make_parser(called).parse_args(list(words[1:]))
    said: dict[str, Any] = {}
    for option in wanted.params:
        name = option.name or ""
        if not isinstance(option, click.Option) or called.get_parameter_source(name) is ParameterSource.DEFAULT:
            continue
        value, _ = option.consume_value(called, raw)  # also what an option means that stands without a value
        said[_plain_name(option, value)] = _plain(option, value)
    for name in said:
        if name in _OF_A_CALL:
            raise CallError(f"--{name} belongs to a single call, not to an order.")
    own = command_of(Call(words[0], "", "")).defaults
    choice = {name: value for name, value in said.items() if name in _CHOICE and name not in own}
    options = {name: value for name, value in said.items() if name not in choice and name not in _OWN}
    source = str(called.params.get("source") or called.params.get("backup") or "")
    into = str(said.get("into", "")) or str(records_folder(said.get("records")) if "records" in own else "")
    at_the_end = (str(said.get("afterwards") or ""), str(said.get("deliver") or ""))
    call = Call(words[0], source, into, choice, options, *at_the_end)
    return call, bool(said.get("yes")), tuple(said.get("notify", ()))


def _in_files(context: click.Context, source: str) -> str:
    """The source; of an @name for a mailbox in files, its path: a watch has to know where it lies."""
    if not source.startswith("@"):
        return source
    place = context.find_root().obj.configuration.named(source[1:])
    return place if isinstance(place, str) and "://" not in place else source


def _plain_name(option: click.Option, value: Any) -> str:
    """The option's name on the command line; of a pair such as --seen/--unseen the one that was meant, where the other
    is a word of its own."""
    name = max(option.opts, key=len).removeprefix("--")
    other = max(option.secondary_opts, key=len, default="").removeprefix("--")
    return other if value is False and other in _CHOICE else name


def _plain(option: click.Option, value: Any) -> Any:
    if value is False and any(one.removeprefix("--") in _CHOICE for one in option.secondary_opts):
        return True
    if option.multiple:
        return [str(one) for one in (value if isinstance(value, list | tuple) else [value])]
    if isinstance(option.type, click.IntRange | click.FloatRange):
        return option.type_cast_value(click.Context(click.Command("order")), value)
    return value if isinstance(value, bool | int | float | list) else str(value)
