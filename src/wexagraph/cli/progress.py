"""How far a long run is: a bar on a terminal, a line every few seconds elsewhere."""

from __future__ import annotations

import signal
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from types import TracebackType
from typing import TYPE_CHECKING, Any

import click

from wexagraph.text import one_line

if TYPE_CHECKING:
    from wexagraph.reports import Progress

_FIRST = 1.0
_EVERY = 5.0
_SURE = 3.0
"""Seconds of work before anybody can say how long the rest takes: the first pages start their workers."""


class Display:
    """Shows progress on standard error, once a run has taken a second."""

    def __init__(self, formats: tuple[str, ...], noun: str = "messages") -> None:
        self._what, self._noun = ", ".join(formats), noun
        self._start = time.monotonic()
        self._work_start: float | None = None
        self._last = self._start
        self._terminal = sys.stderr.isatty()
        self._untold: Progress | None = None
        self._bar: Any = None
        self._task: Any = None

    def __enter__(self) -> Display:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Take the bar off the terminal; the last line elsewhere is the last state."""
        if self._bar is not None:
            self._bar.stop()
        if self._untold is not None:
            click.echo(self._line(self._untold, time.monotonic()), err=True)
            self._untold = None

    def stopping(self) -> None:
        """Ctrl-C was pressed once."""
        click.echo(f"\nStopping: finishing the {self._noun} in hand. Ctrl-C again stops at once.", err=True)

    def update(self, progress: Progress) -> None:
        """Called for each message; draws no more often than is good for the eye."""
        now = time.monotonic()
        if progress.total is not None and self._work_start is None:
            self._work_start = now
        if now - self._start < _FIRST:
            return
        for line in progress.finished:
            self._say(line)
        if self._terminal:
            if now - self._last >= 0.1 or progress.done == progress.total:
                self._last = now
                self._draw(progress)
        elif now - self._last >= _EVERY or self._last == self._start:
            self._last, self._untold = now, None
            click.echo(self._line(progress, now), err=True)
        elif self._last != self._start:
            self._untold = progress

    def _say(self, line: str) -> None:
        """A line of its own, above the bar where there is one."""
        if self._bar is None:
            click.echo(one_line(line), err=True)
        else:
            from rich.text import Text

            self._bar.console.print(Text(one_line(line)))

    def _line(self, progress: Progress, now: float) -> str:
        if progress.in_hand:
            return f"{self._what}: {progress.done:,} {self._noun}, at {one_line(', '.join(progress.in_hand))}"
        if progress.total is None or self._work_start is None:
            return f"looking: {progress.done:,} {self._noun} so far"
        failed = f", {progress.failed:,} failed" if progress.failed else ""
        line = f"{self._what}: {progress.done:,} of {progress.total:,} {self._noun}{failed}"
        worked = now - self._work_start
        if worked < _SURE or not progress.done or progress.done == progress.total:
            return line
        rate = progress.done / worked
        return f"{line}, {rate:,.0f} a second, {_duration((progress.total - progress.done) / rate)} left"

    def _draw(self, progress: Progress) -> None:
        if self._bar is None:
            from rich.progress import BarColumn, TextColumn
            from rich.progress import Progress as Bar

            from wexagraph.cli.terminal import make_console

            columns = (
                TextColumn("{task.description}", style="cyan"),
                BarColumn(None, complete_style="cyan"),
                TextColumn("{task.fields[state]}"),
            )
            self._bar = Bar(*columns, console=make_console(err=True), transient=True, auto_refresh=False)
            self._task = self._bar.add_task("looking", total=None, state="")
            self._bar.start()
        text = self._line(progress, time.monotonic())
        about, _, state = text.partition(": ")
        self._bar.update(self._task, description=about, total=progress.total, completed=progress.done, state=state)
        self._bar.refresh()


def _duration(seconds: float) -> str:
    if seconds < 60:
        return f"{seconds:.0f} s"
    if seconds < 3600:
        return f"{seconds / 60:.0f} min"
    return f"{seconds / 3600:.1f} h"


@contextmanager
def stoppable(display: Display) -> Iterator[Callable[[], bool]]:
    """Gives a function that tells whether to stop. The first Ctrl-C finishes what is in hand, the second stops."""
    stop = threading.Event()

    def interrupt(*_: Any) -> None:
        if stop.is_set():
            raise KeyboardInterrupt
        stop.set()
        display.stopping()

    before = signal.signal(signal.SIGINT, interrupt)
    try:
        yield stop.is_set
    finally:
        signal.signal(signal.SIGINT, before)
