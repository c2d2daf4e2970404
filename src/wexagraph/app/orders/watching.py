"""One process for all orders, until it is told to stop: mail that arrives, and the clock."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from wexagraph.app.commands import choice_of
from wexagraph.app.orders.running import Orders
from wexagraph.errors import WexagraphError
from wexagraph.records.order import Order
from wexagraph.records.order_log import UNDONE, Run
from wexagraph.reports import Report
from wexagraph.sources.base import Source
from wexagraph.sources.imap import ImapSource
from wexagraph.sources.imap.connection import Dropped, Refused
from wexagraph.sources.imap.idling import Waiter

QUIET, QUIET_IN_FILES = 0.2, 1.0
"""Seconds without news behind mail that arrived: a burst is one run, and a file that grows is not read half."""
MOST_QUIET = 60.0
_LONGEST_SLEEP = 60.0  # the clock may be set, and the machine may sleep
_FIRST_PAUSE, _LONGEST_PAUSE = 0.3, 60.0
_ASK_POP = 60.0
_FIRST_RETRY, _LONGEST_RETRY = 1.0, 15 * 60.0
_ORDERS = ""


@dataclass(frozen=True)
class Event:
    """Something that happened: `what` is watching, arrived, run or trouble; to which order, and its run."""

    what: str
    text: str
    order: Order | None = None
    run: Run | None = None
    report: Report | None = None


class Watch:
    """Runs orders as their time comes and as mail arrives. `tell` is told of each event; `stop` ends it."""

    def __init__(
        self,
        orders: Orders,
        open_source: Callable[[str], Source],
        tell: Callable[[Event], None],
        stop: threading.Event,
    ) -> None:
        self._orders, self._open, self._tell, self.stop = orders, open_source, tell, stop
        self._news: queue.SimpleQueue[str] = queue.SimpleQueue()
        self._guards: dict[str, _Guard] = {}
        self._known: list[Order] = []
        self.edition = 0  # counts the changes of what is to be watched
        self._wrong: set[str] = set()
        self._retries: dict[str, float] = {}  # by order: when to try again what could not be done
        self._pauses: dict[str, float] = {}  # by order: how long the last wait for that was

    def go(self) -> None:
        """Watch until told to stop; what is in hand then is finished. Raises TargetError."""
        with self._orders.watched():
            self._go()

    def _go(self) -> None:
        self._look_up()
        watchers = [threading.Thread(target=self._watch_files, args=(whole,), daemon=True) for whole in (True, False)]
        for thread in watchers:
            thread.start()
        arrived: set[str] = set()
        while not self.stop.is_set():
            self._run(arrived)
            arrived = self._wait()
        for guard in self._guards.values():
            guard.stop.set()
            guard.thread.join(5)
        for thread in watchers:
            thread.join(8)

    def wake(self) -> None:
        """Let it see that it is to stop."""
        self._news.put(_ORDERS)

    def _run(self, arrived: set[str]) -> None:
        """Run the orders whose mail has arrived, those for which it is time, and those that could not be done."""
        again = {name for name, moment in self._retries.items() if moment <= time.monotonic()}
        for name in again:
            del self._retries[name]

        def has_to_run(order: Order) -> bool:
            if not order.when.on_arrival:
                return self._orders.is_due(order)
            return order.call.source in arrived or order.name in again

        due = [order for order in self._known if not order.paused and has_to_run(order)]
        for order, run, report in self._orders.run(due, self.stop.is_set):
            self._tell(Event("run", "", order, run, report))
            if run.state == UNDONE and order.when.on_arrival:  # nobody says a second time that mail has arrived
                pause = min(2 * self._pauses.get(order.name, _FIRST_RETRY / 2), _LONGEST_RETRY)
                self._pauses[order.name] = pause
                self._retries[order.name] = time.monotonic() + pause
            elif self._pauses.pop(order.name, None) is not None:
                self._retries.pop(order.name, None)
                self.edition += 1  # its mailbox may be there again

    def _wait(self) -> set[str]:
        """Wait for news or for the next order's time. Returns the mailboxes in which mail has arrived."""
        arrived: set[str] = set()
        now = self._orders.clock()
        times = [self._orders.next_run(order) for order in self._known]
        ahead = min((max(0.0, (moment - now).total_seconds()) for moment in times if moment is not None), default=1e9)
        end = time.monotonic() + min(ahead, _LONGEST_SLEEP)
        end = min([end, *self._retries.values()])
        latest = time.monotonic() + MOST_QUIET
        while not self.stop.is_set():
            left = end - time.monotonic()
            if left <= 0 and not (arrived and self._is_written(arrived) and time.monotonic() < latest):
                return arrived
            try:
                news = self._news.get(timeout=max(left, 0.1))
            except queue.Empty:
                continue
            if news == _ORDERS:
                self._look_up()
                end = min(end, time.monotonic())
                continue
            arrived.add(news)
            quiet = QUIET if self._is_account(news) else QUIET_IN_FILES
            end = min(time.monotonic() + quiet, latest)
        return arrived

    def _is_written(self, arrived: set[str]) -> bool:
        """Whether somebody holds one of the mailboxes for writing, as mail programs say it (NAME.lock)."""
        return any(Path(f"{location}.lock").exists() for location in arrived)

    def _look_up(self) -> None:
        """Read the orders again, and watch over the accounts that they name."""
        before = self._known
        self._known, wrong = self._orders.all()
        self.edition += self._known != before
        waiting = [order for order in self._known if order.when.on_arrival and not order.paused]
        for order in waiting:
            if order not in before and not self._is_account(order.call.source):
                self._news.put(order.call.source)  # what lies there already
        for error in wrong:
            if str(error) not in self._wrong:
                self._tell(Event("trouble", str(error)))
        self._wrong = {str(error) for error in wrong}
        wanted: dict[str, list[Order]] = {}
        for order in waiting:
            if self._is_account(order.call.source):
                wanted.setdefault(order.call.source, []).append(order)
        for location, guard in list(self._guards.items()):
            if wanted.get(location) != guard.orders:  # other folders may be meant now
                self._guards.pop(location).stop.set()
        for location, orders in wanted.items():
            if location not in self._guards:
                stop = threading.Event()
                thread = threading.Thread(target=self._guard, args=(location, orders, stop), daemon=True)
                self._guards[location] = _Guard(orders, thread, stop)
                thread.start()

    @staticmethod
    def _is_account(location: str) -> bool:
        return "://" in location or location.startswith("@")

    # what arrives

    def _guard(self, location: str, orders: list[Order], stop: threading.Event) -> None:
        """Watch over an account, on a line of its own that is dialled again whenever it goes."""
        pause = _FIRST_PAUSE
        lost = threading.Event()
        while not (stop.is_set() or self.stop.is_set()):
            try:
                with self._open(location) as source:
                    self._listen(location, orders, source, _Either(stop, self.stop), lost)
            except (WexagraphError, Dropped, Refused, OSError) as error:
                pause = min(pause * 2, _LONGEST_PAUSE) if lost.is_set() else _FIRST_PAUSE
                if not lost.is_set():
                    self._tell(Event("trouble", f"{location}: {error}"))
                lost.set()
                stop.wait(pause)

    def _listen(self, location: str, orders: list[Order], source: Source, stop: _Either, lost: threading.Event) -> None:
        """Say whenever mail may have come, until told to stop or the line goes."""
        waiter = Waiter(source, self._folders(orders, source), stop) if isinstance(source, ImapSource) else None
        if waiter is not None:
            waiter.begin()
        self._tell(Event("watching", f"{location}{' again' if lost.is_set() else ''}"))
        lost.clear()
        self._news.put(location)  # what came while nobody looked
        while not stop.is_set():
            if waiter.wait() if waiter is not None else not stop.wait(_ASK_POP):
                self._news.put(location)

    def _folders(self, orders: list[Order], source: Source) -> list[str]:
        """The folders that orders take from, INBOX first."""
        names: set[str] = set()
        for order in orders:
            try:
                names.update(choice_of(order.call).folders_of(source))
            except WexagraphError as error:
                self._tell(Event("trouble", f"{order.name}: {error}"))
        return sorted(names or source.folders(), key=lambda name: (name.upper() != "INBOX", name))

    def _watch_files(self, whole: bool) -> None:
        """Mailboxes in files, by the system's events: `whole` folders with all below them; else single files, in the
        folders around them, and the orders themselves."""
        from watchfiles import watch

        own = self._orders.folder.resolve()
        while not self.stop.is_set():
            turn = _Turn(self)
            try:
                own.mkdir(0o700, parents=True, exist_ok=True)
                places = {path: location for path, location in self._places().items() if path.is_dir() == whole}
                folders = set(places) if whole else {path.parent for path in places} | {own}
                if not folders:
                    turn.wait()
                    continue
                for changes in watch(
                    *folders,
                    stop_event=turn,
                    step=100,
                    debounce=400,
                    rust_timeout=2000,
                    watch_filter=None,
                    recursive=whole,
                ):
                    changed = {Path(path) for _, path in changes}
                    for place, location in places.items():
                        if any(path == place or place in path.parents for path in changed):
                            self._news.put(location)
                    if any(own in path.parents for path in changed):
                        self._news.put(_ORDERS)
            except (OSError, RuntimeError, WexagraphError) as error:
                self._tell(Event("trouble", f"the system's events can't be had: {error}"))
                self.stop.wait(_LONGEST_PAUSE)

    def _places(self) -> dict[Path, str]:
        """The mailboxes in files that orders wait at, by their paths."""
        locations = {order.call.source for order in self._known if order.when.on_arrival and not order.paused}
        files = (location for location in locations if not self._is_account(location))
        return {Path(location).resolve(): location for location in files if Path(location).exists()}


@dataclass(frozen=True)
class _Guard:
    """Who watches over an account, and for which orders."""

    orders: list[Order]
    thread: threading.Thread
    stop: threading.Event


class _Either:
    """Two events as one: it is set when either is."""

    def __init__(self, own: threading.Event, whole: threading.Event) -> None:
        self._own, self._whole = own, whole

    def is_set(self) -> bool:
        return self._own.is_set() or self._whole.is_set()

    def wait(self, seconds: float) -> bool:
        end = time.monotonic() + seconds
        while not self.is_set() and (left := end - time.monotonic()) > 0:
            self._whole.wait(min(left, 1.0))
        return self.is_set()


class _Turn:
    """One turn of watching files, over when all is to stop or other places are to be watched."""

    def __init__(self, watch: Watch) -> None:
        self._watch, self._edition = watch, watch.edition

    def is_set(self) -> bool:
        return self._watch.stop.is_set() or self._watch.edition != self._edition

    def wait(self) -> None:
        """Wait until it is over."""
        while not self.is_set():
            self._watch.stop.wait(1.0)
