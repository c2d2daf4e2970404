"""`wexagraph order add NAME [WHEN] -- COMMAND SOURCE [OPTIONS]`"""

from __future__ import annotations

from contextlib import closing
from dataclasses import replace
from typing import Any

import click
from click.core import ParameterSource

from wexagraph.app.cases import records_folder
from wexagraph.app.commands import check, command_of, settled
from wexagraph.app.notices import check_notices
from wexagraph.cli.exits import OK
from wexagraph.cli.order_views import orders_of
from wexagraph.errors import CallError
from wexagraph.records.calls import Call
from wexagraph.records.order import Order, checked_name
from wexagraph.records.schedule import When
from wexagraph.selection.criteria import TESTS
from wexagraph.text import one_line

_CHOICE = frozenset([*TESTS, "except", "newest", "id", "conversation"])
_OWN = frozenset({"into", "afterwards", "yes", "notify"})
_OF_A_CALL = frozenset({"dry-run", "json", "csv", "quiet", "help", "as-of", "follow-links", "salvage", "set"})


@click.command("add")
@click.argument("name")
@click.option("--every", metavar="SPAN", help="So often: 15m, 1h, 1d, 2w.")
@click.option("--at", metavar="TIME", help="At a time of the day: 02:30.")
@click.option("--on", metavar="DAYS", help="With --at, on these days only: mon,thu, or 1 for the first of a month.")
@click.option("--on-arrival", is_flag=True, help="As mail arrives, while `wexagraph order watch` runs.")
@click.option("--notify", multiple=True, metavar="WHO", help="Tell of runs: desktop or command:PROGRAM. Repeatable.")
@click.option("--yes", is_flag=True, help="Allow --afterwards, which changes the mailbox, once and for all runs.")
@click.argument("words", nargs=-1, type=click.UNPROCESSED, required=True, metavar="-- COMMAND SOURCE [OPTIONS]")
@click.pass_context
def add(
    context: click.Context,
    name: str,
    every: str | None,
    at: str | None,
    on: str | None,
    on_arrival: bool,
    notify: tuple[str, ...],
    yes: bool,
    words: tuple[str, ...],
) -> int:
    """Keep a command as the order NAME.

    COMMAND is export, attachments, register, file or backup, with all that stands behind it. Without a time it runs by
    hand only: wexagraph order run NAME.
    """
    when = When.from_dict({"every": every, "at": at, "on": on or (), "on-arrival": on_arrival})
    call, sure, also_notify = _call_of(context, list(words))
    check(call)
    call = settled(replace(call, source=_in_files(context, call.source)))
    if call.afterwards and not (yes or sure):
        raise CallError(f"{call.changes} Add --yes to allow it for all runs of the order.")
    with closing(orders_of(context)) as orders:
        order = Order(checked_name(name), call, when, notify=(*notify, *also_notify), created=orders.clock())
        check_notices(order.notify)
        orders.add(order)
        click.echo(f"Order {name}, {when.in_words}: {one_line(call.in_words)}.")
        if call.changes:
            click.echo(one_line(call.changes))
        click.echo(f"Try it: wexagraph order run {name} --dry-run")
        click.echo(f"It is kept in {one_line(str(orders.path(name)))}")
    return OK


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
    call = Call(words[0], source, into, choice, options, str(said.get("afterwards") or ""))
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
