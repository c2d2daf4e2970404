"""`wexagraph order watch` and `wexagraph order timetable`"""

from __future__ import annotations

import json
import signal
import sys
import threading
from contextlib import closing
from datetime import datetime
from typing import TYPE_CHECKING, Any

import click

from wexagraph.app.orders.timetables import KINDS, here, timetable_of
from wexagraph.cli.exits import OK
from wexagraph.cli.order_views import orders_of, sums
from wexagraph.cli.parameters import JSON
from wexagraph.cli.terminal import machine_output
from wexagraph.errors import CallError
from wexagraph.records.order_log import DONE
from wexagraph.text import one_line

if TYPE_CHECKING:
    from wexagraph.app.orders.watching import Event


@click.command("watch")
@JSON
@click.pass_context
def watch(context: click.Context, as_json: bool) -> int:
    """Run orders as mail arrives and time comes.

    One process for all orders, until Ctrl-C; what is in hand then is finished. Says a line for each event.
    """
    from wexagraph.app.orders.notices import give_notice
    from wexagraph.app.orders.watching import Watch

    session = context.find_root().obj
    stop = threading.Event()
    guard = threading.Lock()
    if as_json:
        machine_output()

    def tell(event: Event) -> None:
        quiet = event.run is not None and event.run.state == DONE and not event.run.written
        with guard:
            if quiet and not as_json:
                return  # it was looked, and there was nothing
            click.echo(_as_json(event) if as_json else _in_words(event))
            sys.stdout.flush()
        if event.order is not None and event.run is not None and event.report is not None:
            known = session.configuration
            for trouble in give_notice((*known.notices, *event.order.notify), event.run, event.report, known):
                click.echo(f"wexagraph: {one_line(trouble)}", err=True)

    with closing(orders_of(context)) as orders:
        watching = Watch(orders, session.open, tell, stop)

        def end(*_: Any) -> None:
            if stop.is_set():
                raise KeyboardInterrupt
            stop.set()
            watching.wake()

        before = [(number, signal.signal(number, end)) for number in (signal.SIGINT, signal.SIGTERM)]
        try:
            watching.go()
        finally:
            for number, handler in before:
                signal.signal(number, handler)
    return OK


def _in_words(event: Event) -> str:
    now = f"{datetime.now():%Y-%m-%d %H:%M:%S}"
    if event.order is not None and event.run is not None:
        return f"{now}  {event.order.name}: {one_line(sums(event.run))}"
    text = {"watching": f"watching {event.text}", "trouble": event.text}[event.what]
    return f"{now}  {one_line(text)}"


def _as_json(event: Event) -> str:
    values: dict[str, Any] = {"at": datetime.now().astimezone().isoformat(timespec="milliseconds"), "event": event.what}
    if event.order is not None and event.run is not None:
        return json.dumps(values | {"order": event.order.name, "run": event.run.as_dict()}, ensure_ascii=True)
    return json.dumps(values | {"text": event.text}, ensure_ascii=True)


@click.command("timetable")
@click.option("--print", "action", flag_value="print", help="Show what would be installed.")
@click.option("--install", "action", flag_value="install", help="Install it for this user.")
@click.option("--remove", "action", flag_value="remove", help="Take it away.")
@click.option("--kind", type=click.Choice(KINDS), show_default="what this system has", help="Whose timetable.")
@click.option("--every", default=5, type=click.IntRange(1, 59), show_default=True, metavar="MINUTES")
def timetable(action: str | None, kind: str | None, every: int) -> int:
    """Have the system run the orders that are due.

    A systemd user timer, cron, launchd or the Task Scheduler runs `wexagraph order run --due --quiet` for this user;
    nothing needs root.
    """
    if action is None:
        raise CallError("say --print, --install or --remove.")
    made = timetable_of(kind or here(), every)
    if action == "print":
        for path, text in made.files:
            click.echo(f"# {one_line(str(path))}")
            click.echo(text)
        for words in made.install:
            click.echo(f"# then: {one_line(' '.join(words))}")
        return OK
    if action == "install":
        made.put()
        click.echo(f"Installed: {made.kind} runs the orders that are due every {every} minutes.")
    else:
        made.remove()
        click.echo(f"Removed: {made.kind} runs no orders any more.")
    return OK
